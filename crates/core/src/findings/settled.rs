//! Which shared fields are fine for every unit that says nothing of its own about them: they are resolved once for a
//! stage and not once for each unit.

use std::sync::OnceLock;

use super::effective;
use crate::model::{EntryRef, Kind, Ledger, Slot, SlotEntry, StageId, Subject};
use crate::resolve::{FieldId, Outcome, Resolver, Session, Winner};

/// The most shared fields that a value may be made of; whatever is made of more is resolved for each unit.
const MOST: usize = 32;

/// By stage, for each shared field that is fine there: the shared fields that its value is made of, itself first. Each
/// stage is worked out when somebody asks.
pub(super) struct Settled(Vec<OnceLock<Vec<Option<Vec<Slot>>>>>);

impl Settled {
    pub(super) fn new(ledger: &Ledger) -> Self {
        Self(ledger.stage_ids().map(|_| OnceLock::new()).collect())
    }

    /// Whether the field of a shared entry that a unit uses is fine there as it is for all: nothing that its value is
    /// made of has a setting of the unit's own.
    pub(super) fn has(
        &self,
        resolver: &Resolver<'_>,
        field: FieldId,
        (known, winners): (SlotEntry, &[Winner<'_>]),
    ) -> bool {
        let ledger = resolver.ledger();
        let (EntryRef::Shared(id), Subject::Unit(unit, _)) = (known.entry, field.subject) else {
            return false;
        };
        let all = self.0[usize::from(field.stage.0)].get_or_init(|| of_stage(resolver, field.stage));
        let shared = &ledger.shared_slots;
        let first = shared.entries[usize::from(id.0)].first;
        let Some(made_of) = &all[(first + field.slot.0 - known.first) as usize] else { return false };
        let entries = &ledger.unit(unit).slots.entries;
        made_of.iter().all(|&slot| {
            let (of, position) = shared.entry_of(slot);
            let of_unit = if of.first == first {
                Some(&known)
            } else {
                // What the unit does not use comes to it plainly.
                entries.iter().find(|it| is_same(ledger, it.entry, of))
            };
            of_unit.is_none_or(|it| is_shared(&winners[it.first as usize + position]))
        })
    }
}

/// Whether a unit's entry is this one of the shared ones.
fn is_same(ledger: &Ledger, entry: EntryRef, shared: SlotEntry) -> bool {
    matches!(entry, EntryRef::Shared(id) if ledger.shared_slots.entries[usize::from(id.0)].first == shared.first)
}

fn is_shared(winner: &Winner<'_>) -> bool {
    matches!(winner, Winner::Nothing | Winner::Default(_, true) | Winner::Set(_, _, true))
}

fn of_stage(resolver: &Resolver<'_>, stage: StageId) -> Vec<Option<Vec<Slot>>> {
    let mut session = resolver.session(None);
    let subject = Subject::Shared;
    let slots = resolver.ledger().shared_slots.all();
    slots.map(|slot| made_of(&mut session, FieldId { subject, stage, slot })).collect()
}

/// The shared fields of its stage that a shared field's value is made of; `None` unless it has a value that is fine, and
/// that is all.
fn made_of(session: &mut Session<'_, '_>, field: FieldId) -> Option<Vec<Slot>> {
    let (entry, _) = session.ledger().field(field.subject, field.slot);
    // Rows of tables are merged, and a certificate may know its last day itself.
    let is_plain = !matches!(entry.kind, Kind::Table { .. } | Kind::Credential(_));
    if !is_plain || effective::is_cipher(session, field) || !effective::of_field(session, field).is_empty() {
        return None;
    }
    if !matches!(session.outcome(field), Outcome::Value(_)) {
        return None;
    }
    let mut found = vec![field.slot];
    let mut next = 0;
    while let Some(&slot) = found.get(next) {
        next += 1;
        let outcome = session.outcome(FieldId { slot, ..field });
        // A part of an address may have no value, and that may be otherwise where a unit has set it.
        let Outcome::Value(effective) = outcome else { continue };
        for to in effective.through.iter().flat_map(|fields| fields.iter()) {
            if (to.subject, to.stage) != (field.subject, field.stage) {
                return None;
            }
            if !found.contains(&to.slot) {
                found.push(to.slot);
            }
            if found.len() > MOST {
                return None;
            }
        }
    }
    Some(found)
}
