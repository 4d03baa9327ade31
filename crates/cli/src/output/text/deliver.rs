//! `deliver` for people: what changes, and what came of it.

use cledger_core::delivery::FieldChange;
use cledger_core::kept::Kept;
use cledger_core::model::Ledger;

use super::outlet;
use super::render::gaps;
use crate::output::console::Console;
use crate::output::table::{Table, Tone};
use crate::output::time::day;
use crate::output::{style, values};
use cledger_work::deliver::{Delivered, Delivery};
use cledger_work::reality::brought::Brought;
use cledger_work::shown::counted;

pub(crate) fn print(console: &mut Console, delivered: &Delivered) {
    let Delivered { ledger, deliveries, write, .. } = delivered;
    if !delivered.gaps.is_empty() {
        gaps(console, ledger, &delivered.gaps);
        console.line("Nothing is delivered.");
        return;
    }
    let (idle, busy): (Vec<&Delivery>, Vec<&Delivery>) =
        deliveries.iter().partition(|delivery| delivery.plan.is_idle());
    for (at, delivery) in busy.iter().enumerate() {
        if at > 0 {
            console.line("");
        }
        one(console, ledger, delivery, *write);
    }
    if !idle.is_empty() {
        if !busy.is_empty() {
            console.line("");
        }
        let units = counted(idle.len(), "unit");
        console.line(format!("{units} left out: delivered as the ledger says, and there."));
    }
    if !*write && !busy.is_empty() {
        console.line("Nothing is delivered yet. To do it, add --write.");
    }
}

fn one(console: &mut Console, ledger: &Ledger, delivery: &Delivery, write: bool) {
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
    for chore in plan.chores(ledger) {
        console.wrapped(&format!("  chore: {}", values::escape(&chore.text)), "    ");
    }
    if write {
        outlet::brought(console, &delivery.brought, &[]);
        match &delivery.recorded {
            // What ended the work came before this one.
            None if delivery.brought.is_empty() => console.line("Not delivered."),
            Some(record) => {
                console.line(format!("Recorded as {}@{stage}:{}.", plan.owner, record.meta.number));
            }
            None if delivery.brought.iter().all(Brought::was_there) => {
                console.line("All of it was there already, and nothing is recorded.");
            }
            None => console.line(format!(
                "{}: nothing came anywhere, and nothing is recorded.",
                style::bad("not delivered")
            )),
        }
        return;
    }
    for unit in plan.there.iter().filter(|unit| !unit.is_as_made()) {
        let (outlet, kind) = unit.outlet.clone().unwrap_or_default();
        let standing = match unit.reason() {
            Some(reason) => format!("not known: {reason}"),
            None => "has something else".to_owned(),
        };
        console.line(format!("  outlet {outlet} ({kind}): {standing}"));
    }
}

/// What changes against the last delivery, or between any two.
pub(crate) fn changes(console: &mut Console, changes: &std::collections::BTreeMap<String, FieldChange<'_>>) {
    if changes.is_empty() {
        console.line("  no value changes");
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
