//! Conditions on what stands beside a setting: another field of the same entry or unit, or another cell of the row.

use super::cells::holds_in;
use super::{Found, Test, holds};
use crate::impact::Written;
use crate::model::{Kind, LayerId, Ledger, Slot, StageId, Subject};
use crate::name::Name;
use crate::resolve::{FieldId, Outcome, Resolver};

/// A condition on another field.
#[derive(Debug, Clone)]
pub struct Beside {
    /// Its entry, if that is another one.
    pub entry: Option<Name>,
    /// The field of the entry, a variable of the unit, or a column of the same row.
    pub name: String,
    /// What its value must be or say.
    pub test: Test,
}

/// Whether all of it holds beside something written: in its stage, in every stage of its group, or, for a default, of
/// the defaults.
pub(super) fn stand(resolver: &Resolver<'_>, all: &[Beside], found: &Found<'_>) -> bool {
    let ledger = resolver.ledger();
    all.iter().all(|beside| {
        if is_column(ledger, found, beside) {
            // The row itself decides.
            return true;
        }
        let Some(slot) = slot(ledger, found, beside) else { return false };
        match found.written {
            Written::Default => {
                let (_, field) = ledger.field(found.subject, slot);
                let default = field.default.as_ref().map(|default| default.value.expose());
                default.is_some_and(|value| holds(&beside.test, value, field.this_type))
            }
            Written::In(layer) => {
                let mut stages = stages(ledger, layer).peekable();
                stages.peek().is_some()
                    && stages.all(|stage| holds_at(resolver, (found.subject, stage, slot), beside))
            }
        }
    })
}

/// Whether it holds beside an effective value.
pub(super) fn stand_in(resolver: &Resolver<'_>, all: &[Beside], field: FieldId) -> bool {
    let ledger = resolver.ledger();
    let found = Found {
        written: Written::Default,
        subject: field.subject,
        slot: field.slot,
        setting: None,
        held: None,
        place: None,
    };
    all.iter().all(|beside| {
        is_column(ledger, &found, beside)
            || slot(ledger, &found, beside)
                .is_some_and(|slot| holds_at(resolver, (field.subject, field.stage, slot), beside))
    })
}

fn holds_at(
    resolver: &Resolver<'_>,
    (subject, stage, slot): (Subject, StageId, Slot),
    beside: &Beside,
) -> bool {
    let unit = match subject {
        Subject::Unit(unit, instance) if resolver.ledger().unit(unit).belongs_to(stage, instance) => {
            Some(unit)
        }
        Subject::Unit(..) => return false,
        Subject::Shared => None,
    };
    let this = resolver.ledger().field(subject, slot).1.this_type;
    match resolver.session(unit).outcome(FieldId { subject, stage, slot }) {
        Outcome::Value(effective) => effective.expose().is_some_and(|value| {
            holds(&beside.test, value, this)
                || value.as_text().is_some_and(|text| holds_in(&beside.test, text))
        }),
        _ => false,
    }
}

/// Whether a condition is on a column of the table that was found.
fn is_column(ledger: &Ledger, found: &Found<'_>, beside: &Beside) -> bool {
    match &ledger.field(found.subject, found.slot).0.kind {
        Kind::Table { columns, .. } => beside.entry.is_none() && columns.contains(&beside.name),
        _ => false,
    }
}

/// The other field: of the entry that is named, else of the same entry, else a variable.
fn slot(ledger: &Ledger, found: &Found<'_>, beside: &Beside) -> Option<Slot> {
    let find = |entry: &str, field: Option<&str>| ledger.find_slot(found.subject, entry, field).ok();
    if let Some(entry) = &beside.entry {
        return find(entry.as_str(), Some(&beside.name));
    }
    let own = ledger.field(found.subject, found.slot).0.name.as_str();
    find(own, Some(&beside.name)).or_else(|| find(&beside.name, None))
}

/// The stages that a layer is of.
fn stages(ledger: &Ledger, layer: LayerId) -> impl Iterator<Item = StageId> {
    ledger.stage_ids().filter(move |&id| match layer {
        LayerId::Stage(stage) => stage == id,
        LayerId::Group(group) => ledger.stage(id).groups.contains(&group),
    })
}
