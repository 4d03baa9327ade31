//! Where values of a folio are set in the ledger that it comes into, and what has no place any more.

use cledger_core::address::{Address, Owner};
use cledger_core::model::{LayerId, Ledger, Slot, StageId, Subject};

use super::Names;
use crate::folio::piece::Piece;
use crate::meant::Place;

/// The address of a field, without a stage, by the names of here.
pub(super) fn with_names(address: &str, names: &Names) -> String {
    let Ok(mut parsed) = Address::parse(address) else { return address.to_owned() };
    for (old, new) in names {
        match (old, new, &parsed.owner) {
            (Piece::Unit(old), Piece::Unit(new), Some(Owner::Unit(unit, instance))) if unit == old => {
                parsed.owner = Some(Owner::Unit(new.clone(), instance.clone()));
            }
            (Piece::Shared(old), Piece::Shared(new), _) if parsed.entry.as_ref() == Some(old) => {
                parsed.entry = Some(new.clone());
            }
            _ => {}
        }
    }
    parsed.to_string()
}

/// Who gets the value of a field that is set for a subject in a stage: those that use a shared entry, a unit with its
/// instances, or an instance alone.
pub(super) fn users(ledger: &Ledger, subject: Subject, stage: StageId) -> Vec<Subject> {
    match subject {
        Subject::Shared => ledger.subjects_in(stage).collect(),
        Subject::Unit(_, Some(_)) => vec![subject],
        Subject::Unit(unit, None) => {
            let of_unit = |it: &Subject| matches!(it, Subject::Unit(id, _) if *id == unit);
            ledger.subjects_in(stage).filter(of_unit).collect()
        }
    }
}

/// The field of a place, as somebody who uses it numbers it.
pub(super) fn slot_of(ledger: &Ledger, subject: Subject, place: &Place) -> Option<Slot> {
    let (entry, field) = (place.address.entry.as_ref()?, place.address.field.as_ref());
    let is_it = |slot: &Slot| {
        let (declared, declaration) = ledger.field(subject, *slot);
        let is_shared = ledger.slots(subject).entry_of(*slot).0.entry.shared().is_some();
        declared.name == *entry
            && declaration.name.as_ref() == field
            && (place.subject != Subject::Shared || is_shared)
    };
    ledger.slots(subject).all().find(is_it)
}

/// Settings whose fields a newer contract does not have any more: where they stand, and what they are of.
pub(super) fn gone(before: &Ledger, after: &Ledger) -> Vec<String> {
    let mut gone = Vec::new();
    let subjects = before.unit_ids().flat_map(|unit| before.subjects_of(unit)).chain([Subject::Shared]);
    for subject in subjects {
        let owner = before.owner(subject);
        let then: Option<Subject> = match &owner {
            Owner::Shared => Some(Subject::Shared),
            Owner::Unit(unit, instance) => after.unit_id(unit.as_str()).and_then(|id| match instance {
                None => Some(Subject::Unit(id, None)),
                Some(name) => after.unit(id).instance(name.as_str()).map(|it| Subject::Unit(id, Some(it))),
            }),
        };
        for slot in before.slots(subject).all() {
            let name = before.field_name(subject, slot);
            let is_there = then
                .is_some_and(|then| after.slots(then).all().any(|slot| after.field_name(then, slot) == name));
            if is_there {
                continue;
            }
            let layers: Vec<&str> = before
                .layer_ids()
                .filter(|&layer| before.setting_at(layer, subject, slot).is_some())
                .map(|layer: LayerId| before.layer_name(layer).as_str())
                .collect();
            if !layers.is_empty() {
                gone.push(format!("{owner}/{name} (set in {})", layers.join(", ")));
            }
        }
    }
    gone
}
