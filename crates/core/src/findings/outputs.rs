//! `name-clash`: two fields with one name in an output, or two outputs with one path.

use super::check::Bounds;
use super::values::called;
use super::{Code, Finding, Severity};
use crate::model::{Subject, UnitId};
use crate::output;
use crate::source::Place;

pub(super) fn of_unit(bounds: &Bounds<'_>, id: UnitId, findings: &mut Vec<Finding>) {
    let ledger = bounds.ledger;
    let unit = ledger.unit(id);
    if !bounds.covers_owner(unit.name.as_str(), None) {
        return;
    }
    let clash = |message: String, place: Place, help: &str| Finding {
        code: Code::NameClash,
        severity: Severity::Error,
        address: unit.name.to_string(),
        subject: unit.name.to_string(),
        stage: None,
        unit: Some(id),
        message,
        place: Some(place),
        hides_value: false,
        help: help.to_owned(),
        because_of: None,
        needed_by: Vec::new(),
    };
    for (at, one) in unit.outputs.iter().enumerate() {
        if unit.outputs[..at].iter().any(|other| other.path == one.path) {
            let message = format!("two outputs have the path `{}`", one.path);
            findings.push(clash(message, one.place, "give one of them another path"));
        }
        // Formats name fields alike wherever they are used; one table alone has nothing to clash with.
        let known = unit.outputs[..at].iter().any(|other| other.format == one.format);
        if known || one.table.is_some() {
            continue;
        }
        let subject = Subject::Unit(id, None);
        let names = output::names(ledger, id, one);
        if let Some((name, first, second)) = output::clash(&names) {
            let field = |slot| ledger.field(subject, slot);
            let ((entry, one_field), (other_entry, other_field)) = (field(first), field(second));
            let message = format!(
                "{} and {} are both called `{}` in `{}`",
                called(entry, one_field),
                called(other_entry, other_field),
                name.join("."),
                one.path
            );
            findings.push(clash(message, other_field.place, "give one of them another name with `as`"));
        }
    }
}
