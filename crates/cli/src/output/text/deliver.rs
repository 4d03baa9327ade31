//! `deliver` for people: what changes, and what came of it.

use cledger_core::delivery::FieldChange;
use cledger_core::kept::Kept;
use cledger_core::model::Ledger;

use super::render::gaps;
use super::{at, brought, bundle, withdraw};
use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::time::day;
use crate::output::{style, values};
use cledger_work::bringing::at::AtOutlet;
use cledger_work::bringing::brought::Brought;
use cledger_work::deliver::dropping::Dropped;
use cledger_work::deliver::{Delivered, Delivery, Untested};
use cledger_work::shown::counted;

pub(crate) fn print(console: &mut Console, delivered: &Delivered) {
    print_as(console, delivered, "delivered");
}

/// The same, with the word for what is done: delivered, or put.
pub(super) fn print_as(console: &mut Console, delivered: &Delivered, done: &str) {
    let Delivered { ledger, deliveries, left_over, write, .. } = delivered;
    if !delivered.gaps.is_empty() {
        gaps(console, ledger, &delivered.gaps);
        console.line(format!("Nothing is {done}."));
        return;
    }
    if let Some(together) = &delivered.together {
        bundle::print(console, together);
    }
    let (nowhere, deliveries): (Vec<&Delivery>, Vec<&Delivery>) =
        deliveries.iter().partition(|delivery| delivery.plan.is_nowhere() && delivery.trouble.is_none());
    let (idle, busy): (Vec<&Delivery>, Vec<&Delivery>) =
        deliveries.into_iter().partition(|delivery| delivery.plan.is_idle() && delivery.trouble.is_none());
    for (at, delivery) in busy.iter().enumerate() {
        if at > 0 {
            console.line("");
        }
        one(console, ledger, delivery, (*write, done));
    }
    for withdrawn in left_over {
        console.line("");
        withdraw::print(console, withdrawn);
    }
    if !idle.is_empty() {
        if !busy.is_empty() || !left_over.is_empty() {
            console.line("");
        }
        let units = counted(idle.len(), "unit");
        console.line(format!("{units} left out: delivered as the ledger says, and there."));
    }
    if !nowhere.is_empty() {
        let names: Vec<&str> = nowhere.iter().map(|delivery| delivery.plan.owner.as_str()).collect();
        let text = format!("not {done}, since no outlet takes anything of it: {}", names.join(", "));
        console.wrapped(&style::doubtful(&text), "  ");
    }
    if let (Some(together), true) = (&delivered.together, *write) {
        bundle::recorded(console, together);
    }
    if !*write && (!busy.is_empty() || !left_over.is_empty()) {
        end(console, delivered, done);
    }
}

/// What is to be typed to have a plan carried out.
fn end(console: &mut Console, delivered: &Delivered, done: &str) {
    let is_blocked =
        !delivered.overwrites && delivered.deliveries.iter().any(|delivery| delivery.plan.is_blocked());
    if is_blocked {
        console.wrapped(
            &format!(
                "Nothing is {done} yet, and --write is refused: what is not ours would be lost. Take it into the \
                 ledger (cledger drift --take ADDRESS), leave it (--leave NAME), or overwrite it \
                 (--overwrite-edits)."
            ),
            "",
        );
    } else {
        console.line(format!("Nothing is {done} yet. To do it, add --write."));
    }
}

fn one(console: &mut Console, ledger: &Ledger, delivery: &Delivery, (write, done): (bool, &str)) {
    let plan = &delivery.plan;
    let stage = ledger.stage(plan.stage).name.as_str();
    let next = plan.last.as_ref().map_or(1, |(record, _)| record.meta.number + 1);
    let again = plan.again.map(|number| format!(", the content of {number} again")).unwrap_or_default();
    let after = match &plan.last {
        Some((record, _)) => format!(" after {} of {}", record.meta.number, day(&record.meta.time)),
        None => ", the first".to_owned(),
    };
    let title = style::heading(&format!("{}@{stage}", plan.owner));
    console.line(format!("{title}  delivery {next}{after}{again}"));
    changes(console, &plan.changes());
    if let Some(number) = plan.again {
        let compare = format!("cledger compare {0}@{stage}:{number} {0}@{stage}", plan.owner);
        console.wrapped(&format!("  what the ledger says otherwise: {compare}"), "    ");
    }
    for (stage, fields) in by_stage(&plan.untested) {
        let text = format!("not as delivered to {stage}: {}", fields.join(", "));
        console.wrapped(&format!("  {}", style::doubtful(&text)), "    ");
    }
    for chore in plan.chores(ledger) {
        console.wrapped(&format!("  chore: {}", values::escape(&chore.text)), "    ");
    }
    at::print(console, &plan.outlets);
    for (outlet, chore) in &plan.by_hand {
        let text = format!("outlet {outlet} (by-hand): {}", values::escape(chore));
        console.wrapped(&format!("  {text}"), "    ");
    }
    if let Some(trouble) = &delivery.trouble {
        let text = format!("{}: {trouble}", style::bad(&format!("not {done}")));
        console.wrapped(&text, "  ");
        if let Some(help) = trouble.help_text() {
            console.wrapped(&format!("  {help}"), "  ");
        }
        return;
    }
    if !write {
        return;
    }
    if !delivery.brought.is_empty() {
        brought::print(console, &delivery.brought);
    }
    match &delivery.recorded {
        // What ended the work came before this one.
        None if delivery.brought.is_empty() => console.line(format!("Not {done}.")),
        Some(record) => {
            console.line(format!("Recorded as {}@{stage}:{}.", plan.owner, record.meta.number));
        }
        None if delivery.brought.iter().all(Brought::was_there) => {
            let staying: usize = plan.outlets.iter().map(AtOutlet::staying).sum();
            console.line(match staying {
                0 => "All of it was there already, and nothing is recorded.".to_owned(),
                count => {
                    let (names, stay) = (counted(count, "name"), if count == 1 { "stays" } else { "stay" });
                    format!("Nothing had to be brought, and nothing is recorded: {names} {stay}.")
                }
            });
        }
        None => console.line(format!(
            "{}: nothing came anywhere, and nothing is recorded.",
            style::bad(&format!("not {done}"))
        )),
    }
}

/// What was left open, and is given up.
pub(crate) fn dropped(console: &mut Console, dropped: &Dropped) {
    let meta = &dropped.meta;
    let by = if meta.who.is_empty() { "somebody".to_owned() } else { values::escape(&meta.who) };
    console.wrapped(&format!("{}@{}  left open by {by} on {}", meta.unit, meta.stage, day(&meta.time)), "  ");
    console.wrapped("  what of it came to the outlets counts as edited by hand", "    ");
    console.line(if dropped.written {
        "It is given up."
    } else {
        "It is not given up yet. To do it, add --write."
    });
}

/// What is not as tested, by the stages in which it was.
fn by_stage(untested: &Untested) -> std::collections::BTreeMap<&str, Vec<&str>> {
    let mut stages = std::collections::BTreeMap::<&str, Vec<&str>>::new();
    for (field, names) in untested {
        for name in names {
            stages.entry(name).or_default().push(field);
        }
    }
    stages
}

/// What changes against the last delivery, or between any two.
pub(crate) fn changes(console: &mut Console, changes: &std::collections::BTreeMap<String, FieldChange<'_>>) {
    if changes.is_empty() {
        console.line("  no value of the ledger changes");
        return;
    }
    let mut table = Table::new(&["  field", "before", "after", ""], console.width());
    for (name, change) in changes {
        let none = || ("none".to_owned(), Tone::Quiet);
        let (before, after) = match change {
            FieldChange::New(now) => (none(), shown(now)),
            FieldChange::Changed(then, now) => (shown(then), shown(now)),
            FieldChange::Gone(then) => (shown(then), none()),
            FieldChange::NotKnown => {
                let masked = || (values::MASK.to_owned(), Tone::Plain);
                (masked(), masked())
            }
        };
        table.row(vec![
            (format!("  {name}"), Tone::Plain),
            before,
            after,
            (change.word().to_owned(), Tone::Plain),
        ]);
    }
    table.keep_whole(0);
    table.keep_whole(3);
    table.lines().iter().for_each(|line| console.line(line));
}

fn shown(kept: &Kept) -> (String, Tone) {
    (values::kept(kept, false), Tone::Plain)
}
