//! What is told of a value's way, in words.

use cledger_core::model::{Ledger, Note};
use cledger_core::resolve::{FieldId, Outcome};
use cledger_core::trace::{Candidate, Saying, Standing};

use crate::shown::{ENCRYPTED, Tone, effective, escape, held, one_line};

/// What a field comes to: its value, or a word; a secret only where it is unmasked.
pub fn outcome(outcome: &Outcome<'_>, unmask: bool) -> (String, Tone) {
    match outcome {
        Outcome::Value(value) => (effective(value, unmask), Tone::Plain),
        Outcome::Absent(_) => ("absent on purpose".to_owned(), Tone::Plain),
        Outcome::Unset => ("no value".to_owned(), Tone::Quiet),
        Outcome::Missing(..) => ("missing".to_owned(), Tone::Bad),
        Outcome::Broken(problems) => {
            let codes: Vec<&str> = problems.iter().map(|problem| problem.code.name()).collect();
            (codes.join(", "), Tone::Bad)
        }
    }
}

/// Where a candidate stands: the layer, for whom, and the place.
pub fn place(ledger: &Ledger, candidate: &Candidate<'_>) -> String {
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

/// What a candidate says; a secret only where it is unmasked.
pub fn says(candidate: &Candidate<'_>, unmask: bool) -> String {
    match candidate.says {
        Saying::Value(value) if unmask => one_line(value.expose()),
        Saying::Value(value) => held(value),
        Saying::Absent => "absent on purpose".to_owned(),
        Saying::From(source) => format!("from {}", escape(source)),
        Saying::Encrypted => ENCRYPTED.to_owned(),
    }
}

/// How a candidate fares, and why it is as it is.
pub fn standing(candidate: &Candidate<'_>) -> (String, Tone) {
    let (standing, tone) = match candidate.standing {
        Standing::Wins => ("wins".to_owned(), Tone::Plain),
        Standing::Merged => ("merged, row by row".to_owned(), Tone::Plain),
        Standing::Weaker => ("weaker".to_owned(), Tone::Quiet),
        Standing::NotCounted(reason) => (format!("does not count: {reason}"), Tone::Doubtful),
    };
    match candidate.note.and_then(note) {
        Some(note) => (format!("{standing}: {note}"), tone),
        None => (standing, tone),
    }
}

/// Why a setting is as it is, and until when.
pub fn note(note: &Note) -> Option<String> {
    let why = note.why.as_deref().map(escape);
    let until = note.until.map(|until| format!("until {until}"));
    let parts: Vec<String> = why.into_iter().chain(until).collect();
    (!parts.is_empty()).then(|| parts.join(", "))
}

/// What a field is called beside another one: by its name alone in the same unit and stage.
pub fn field_name(ledger: &Ledger, beside: FieldId, field: FieldId) -> String {
    if (field.subject, field.stage) == (beside.subject, beside.stage) {
        ledger.field_name(field.subject, field.slot)
    } else {
        ledger.address(field).to_string()
    }
}

/// What is said where there is no candidate.
pub fn no_candidate(derived: bool) -> &'static str {
    if derived { "It is made from other fields." } else { "Nothing is set for it, and it has no default." }
}
