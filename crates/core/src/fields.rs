//! What the ledger says of a unit in a stage, field by field, whatever files and outlets it has.

use std::collections::BTreeMap;

use crate::model::{StageId, Subject};
use crate::output::OutputName;
use crate::resolve::{FieldId, Outcome, Session};
use crate::value::Value;

/// All fields of a unit or instance in a stage, by their names: the entry's, and the field's where it has several.
pub type Fields<'l> = BTreeMap<OutputName, (FieldId, Outcome<'l>)>;

/// Works out what each field of a subject comes to in a stage.
pub fn fields<'l>(session: &mut Session<'_, 'l>, subject: Subject, stage: StageId) -> Fields<'l> {
    let ledger = session.ledger();
    let slots = ledger.slots(subject).all();
    let named = slots.map(|slot| {
        let (entry, field) = ledger.field(subject, slot);
        let name = std::iter::once(&entry.name).chain(&field.name).map(ToString::to_string).collect();
        let id = FieldId { subject, stage, slot };
        (name, (id, session.outcome(id)))
    });
    named.collect()
}

/// A value as it can be kept in JSON (RFC 8259) and read again: days and times as text, and JSON as its text.
pub fn as_kept(value: &Value) -> Value {
    let text = || Value::Text(value.to_text());
    match value {
        Value::Json(_) => text(),
        _ => Value::from_json(value.to_json()).unwrap_or_else(text),
    }
}
