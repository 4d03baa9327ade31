//! `trace` for people: the value, every candidate for it, what it refers to, and where it ends up.

use cledger_core::model::{Ledger, Note};
use cledger_core::resolve::{FieldId, Outcome};
use cledger_core::trace::{Candidate, Saying, Standing, origin};

use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{origin, style, values};
use cledger_work::trace::Traced;

pub(crate) fn print(console: &mut Console, ledger: &Ledger, traced: &[Traced<'_>], unmask: bool) {
    for (number, one) in traced.iter().enumerate() {
        if number > 0 {
            console.line("");
        }
        let (value, _) = outcome(&one.outcome, unmask);
        console.line(format!("{}  {value}", style::heading(&ledger.address(one.field).to_string())));
        candidates(console, ledger, one, unmask);
        steps(console, ledger, one, unmask);
        ends(console, one);
    }
}

/// What stands for cipher text.
pub(crate) const ENCRYPTED: &str = "(secret), encrypted";

/// What a field comes to, in a word or its value.
pub(crate) fn outcome(outcome: &Outcome<'_>, unmask: bool) -> (String, Tone) {
    match outcome {
        Outcome::Value(effective) => (values::effective(effective, unmask), Tone::Plain),
        Outcome::Absent(_) => ("absent on purpose".to_owned(), Tone::Plain),
        Outcome::Unset => ("no value".to_owned(), Tone::Quiet),
        Outcome::Missing(..) => ("missing".to_owned(), Tone::Bad),
        Outcome::Broken(problems) => {
            let codes: Vec<&str> = problems.iter().map(|problem| problem.code.name()).collect();
            (codes.join(", "), Tone::Bad)
        }
    }
}

fn candidates(console: &mut Console, ledger: &Ledger, traced: &Traced<'_>, unmask: bool) {
    let (_, declaration) = ledger.field(traced.field.subject, traced.field.slot);
    console.line("");
    if traced.candidates.is_empty() {
        let why = if declaration.derived {
            "It is made from other fields."
        } else {
            "Nothing is set for it, and it has no default."
        };
        console.line(why);
        return;
    }
    let mut table = Table::new(&["candidate, weakest first", "says", ""], console.width());
    for candidate in &traced.candidates {
        let (standing, tone) = match candidate.standing {
            Standing::Wins => ("wins".to_owned(), Tone::Plain),
            Standing::Merged => ("merged, row by row".to_owned(), Tone::Plain),
            Standing::Weaker => ("weaker".to_owned(), Tone::Quiet),
            Standing::NotCounted(reason) => (format!("does not count: {reason}"), Tone::Doubtful),
        };
        let from = (place(ledger, candidate), Tone::Plain);
        let standing = match candidate.note.and_then(note) {
            Some(note) => format!("{standing}: {note}"),
            None => standing,
        };
        table.row(vec![from, (says(candidate, unmask), Tone::Plain), (standing, tone)]);
    }
    for line in table.lines() {
        console.line(line);
    }
}

/// Why a setting is as it is, and until when.
pub(crate) fn note(note: &Note) -> Option<String> {
    let why = note.why.as_deref().map(values::escape);
    let until = note.until.map(|until| format!("until {until}"));
    let parts: Vec<String> = why.into_iter().chain(until).collect();
    (!parts.is_empty()).then(|| parts.join(", "))
}

/// The layer, for whom, and where.
fn place(ledger: &Ledger, candidate: &Candidate<'_>) -> String {
    let layer = match candidate.layer.name(ledger) {
        Some(name) => format!("{} {name}", candidate.layer.word()),
        None => candidate.layer.word().to_owned(),
    };
    let at = match candidate.place {
        Some(place) => ledger.files.locate(place).to_string(),
        None => "by its kind".to_owned(),
    };
    format!("{layer}, for {}: {at}", candidate.whose)
}

pub(crate) fn says(candidate: &Candidate<'_>, unmask: bool) -> String {
    match candidate.says {
        Saying::Value(held) if unmask => values::one_line(held.expose()),
        Saying::Value(held) => values::held(held),
        Saying::Absent => "absent on purpose".to_owned(),
        Saying::From(source) => format!("from {}", values::escape(source)),
        Saying::Encrypted => ENCRYPTED.to_owned(),
    }
}

/// What a value refers to, fields of the same unit and stage by their names alone.
fn steps(console: &mut Console, ledger: &Ledger, traced: &Traced<'_>, unmask: bool) {
    let Traced { field: of, steps, .. } = traced;
    let name = |field: FieldId| {
        if (field.subject, field.stage) == (of.subject, of.stage) {
            ledger.field_name(field.subject, field.slot)
        } else {
            ledger.address(field).to_string()
        }
    };
    if steps.is_empty() {
        return;
    }
    console.line("");
    let mut table = Table::new(&["refers to", "which is", "from"], console.width());
    for step in steps {
        let indent = "  ".repeat(step.depth.min(12) - 1);
        let address = format!("{indent}{}", name(step.field));
        let from = if step.again {
            "(see above)".to_owned()
        } else {
            origin(&step.outcome).map(|origin| origin::line(ledger, origin)).unwrap_or_default()
        };
        table.row(vec![(address, Tone::Plain), outcome(&step.outcome, unmask), (from, Tone::Quiet)]);
    }
    table.keep_whole(0);
    for line in table.lines() {
        console.line(line);
    }
}

fn ends(console: &mut Console, traced: &Traced<'_>) {
    if traced.ends.is_empty() {
        return;
    }
    console.line("");
    for end in &traced.ends {
        console.line(format!("It is {} in {}.", end.name.join("."), end.path));
    }
}
