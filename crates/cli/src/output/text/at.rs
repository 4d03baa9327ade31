//! What a unit has at its outlets and what it is to have there, name by name, for people.

use cledger_core::delivery::Whose;
use cledger_core::value::Held;
use cledger_work::bringing::at::{AtName, AtOutlet, AtPart, PartNote, Seen, Stays};
use cledger_work::shown::counted;

use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{style, values};

/// Prints what changes at outlets; those at which nothing does are passed over.
pub(crate) fn print(console: &mut Console, outlets: &[AtOutlet]) {
    for outlet in outlets {
        let title = format!("  outlet {} ({})", outlet.outlet, outlet.kind);
        match &outlet.seen {
            Seen::OnlyLookedAt => {}
            Seen::HandedOn(to) => {
                console
                    .wrapped(&format!("{title}: its place is that of {to} now, and stays as it is"), "    ");
            }
            Seen::NotKnown(reason) => {
                let text = format!("{title}: {}: {}", style::doubtful("not known"), values::escape(reason));
                console.wrapped(&text, "    ");
            }
            Seen::Parts(parts) => {
                let told: Vec<&AtPart> = parts.iter().filter(|part| is_worth_a_word(part)).collect();
                if told.is_empty() && !outlet.not_in_effect {
                    continue;
                }
                let nothing = parts.iter().all(|part| !part.is_there);
                let nothing = if nothing { ": nothing is there" } else { "" };
                console.line(format!("{title}{nothing}"));
                for it in told {
                    part(console, it, outlet.since);
                }
                if outlet.not_in_effect {
                    console.wrapped(
                        "    what was brought there is not in effect: it is taken up again",
                        "      ",
                    );
                }
                for reason in &outlet.not_asked {
                    let text = format!(
                        "    {}: whether tables take it: {}",
                        style::doubtful("not known"),
                        values::escape(reason)
                    );
                    console.wrapped(&text, "      ");
                }
                if let Some(reason) = &outlet.refused {
                    let text = format!("    {}: {}", style::doubtful("not taken"), values::escape(reason));
                    console.wrapped(&text, "      ");
                }
            }
        }
    }
}

/// Whether something about a part is to be told.
fn is_worth_a_word(part: &AtPart) -> bool {
    !part.names.is_empty() || part.note.is_some()
}

fn part(console: &mut Console, part: &AtPart, since: Option<u64>) {
    let path = part.path.as_deref().map(values::escape);
    let title = path.as_deref().unwrap_or("what it has");
    if part.note == Some(PartNote::ThereBefore) {
        console
            .wrapped(&format!("    {title} was there before, as it is to be: it counts as ours"), "      ");
        return;
    }
    if part.names.is_empty() {
        console.wrapped(&format!("    {title} has the same values, written otherwise by hand"), "      ");
        return;
    }
    let is_plain = |name: &AtName| name.whose == Whose::Ours && name.stays.is_none();
    if !part.is_there && part.names.iter().all(is_plain) {
        let names: Vec<&AtName> = part.names.iter().filter(|name| name.name.is_some()).collect();
        let count =
            if names.is_empty() { String::new() } else { format!(" with {}", counted(names.len(), "name")) };
        console.line(format!("    {title} comes{count}"));
        return;
    }
    if part.names.iter().all(|name| is_plain(name) && name.name.is_none()) {
        let becomes = if part.will_be_there { "changes" } else { "goes" };
        console.line(format!("    {title} {becomes}"));
        return;
    }
    let (mut not_meant, mut table) = (0, Table::new(&["      name", "there", "then", ""], console.width()));
    let goes = if part.will_be_there { "" } else { " goes" };
    if path.is_some() || !goes.is_empty() {
        console.line(format!("    {title}{goes}"));
    }
    let mut is_empty = true;
    for name in &part.names {
        if name.stays == Some(Stays::NotMeant) {
            not_meant += 1;
            continue;
        }
        is_empty = false;
        let shown = name.shown().map_or("all of it".to_owned(), |name| values::escape(&name));
        let tone = if name.is_blocking() { Tone::Bad } else { Tone::Plain };
        let will = if name.stays.is_some() { name.there.as_ref() } else { name.will.as_ref() };
        table.row(vec![
            (format!("      {shown}"), Tone::Plain),
            side(name, name.there.as_ref()),
            side(name, will),
            (what(name, since), tone),
        ]);
    }
    if !is_empty {
        table.keep_whole(0);
        table.keep_whole(3);
        table.lines().iter().for_each(|line| console.line(line));
    }
    if not_meant > 0 {
        console.line(format!("      {} of other fields as they are there", counted(not_meant, "name")));
    }
}

/// A value, secrets masked; of a whole file nothing but that there is one.
fn side(name: &AtName, held: Option<&Held>) -> (String, Tone) {
    match held {
        None => ("none".to_owned(), Tone::Quiet),
        Some(_) if name.name.is_none() => ("a text".to_owned(), Tone::Plain),
        Some(held) => match held.open() {
            Some(value) => (values::one_line(value), Tone::Plain),
            None if name.address.is_some() => (values::MASK.to_owned(), Tone::Plain),
            None => ("(not shown)".to_owned(), Tone::Plain),
        },
    }
}

/// What becomes of a name, and whose it is.
fn what(name: &AtName, since: Option<u64>) -> String {
    let becomes = match (name.stays, &name.there, &name.will) {
        (Some(Stays::Waived), ..) => "stays, waived",
        (Some(_), ..) => "stays",
        (None, None, _) => "comes",
        (None, Some(_), None) => "goes",
        (None, Some(_), Some(_)) => "changes",
    };
    let since = since.map(|number| format!(" since {number}")).unwrap_or_default();
    match (name.whose, &name.there) {
        (Whose::Ours, _) => becomes.to_owned(),
        (Whose::Edited, Some(_)) => format!("{becomes}, edited by hand{since}"),
        (Whose::Edited, None) => format!("{becomes}, taken away by hand{since}"),
        (Whose::Before, _) => format!("{becomes}, there before"),
    }
}
