//! What giving something another name does to effective values: nothing, if all goes well.

use std::collections::BTreeSet;

use rayon::prelude::*;
use rustc_hash::FxHashSet;

use super::{Effect, NewAddress, between, compared, effect};
use crate::address::Address;
use crate::model::{Slot, StageId, Subject, UNITS_AT_ONCE, UnitId};
use crate::name::Name;
use crate::resolve::{Alike, FieldId, Resolver, Session};

/// All fields that do not keep their effective value when something gets another name; `renamed`
/// gives the new address of an old one: names of units, fields and stages, each whatever the others are. Where `units`
/// says which may be concerned, as they are called before and after, the others are passed over.
pub fn effects_of_renaming(
    before: &Resolver<'_>,
    after: &Resolver<'_>,
    renamed: NewAddress<'_>,
    units: Option<[&BTreeSet<Name>; 2]>,
) -> Vec<Effect> {
    let is_meant = |unit: &Name, side: usize| units.is_none_or(|units| units[side].contains(unit));
    let (old, new) = (before.ledger(), after.ledger());
    let ids: Vec<UnitId> = old.unit_ids().filter(|id| is_meant(&old.unit(*id).name, 0)).collect();
    let alike = Alike::default();
    let sessions = || (before.session(None), after.session(None));
    let mut found: Vec<Effect> = ids
        .par_iter()
        .with_max_len(UNITS_AT_ONCE)
        .map_init(sessions, |(before, after), &unit| {
            let mut moved = Moved::of((before, after), renamed, &alike, unit);
            old.places_of(unit).flat_map(|(subject, stage)| moved.effects(subject, stage)).collect::<Vec<_>>()
        })
        .flatten_iter()
        .collect();
    // What nothing that was there became.
    let became = ids.iter().flat_map(|&unit| old.places_of(unit));
    let became: FxHashSet<(Subject, StageId)> = became
        .filter_map(|(subject, stage)| new.subject_at(&renamed(&old.address_in(subject, stage))))
        .collect();
    for unit in new.unit_ids().filter(|id| is_meant(&new.unit(*id).name, 1)) {
        let mut session = after.session(Some(unit));
        for (subject, stage) in new.places_of(unit).filter(|place| !became.contains(place)) {
            found.extend(new.slots(subject).all().filter_map(|slot| {
                let field = FieldId { subject, stage, slot };
                effect((new.address(field), false, None, Some(compared(&mut session, field))))
            }));
        }
    }
    found
}

/// A unit before and after something gets another name.
struct Moved<'m, 'r, 'b, 'a> {
    renamed: NewAddress<'m>,
    before: &'m mut Session<'r, 'b>,
    after: &'m mut Session<'r, 'a>,
    /// For each of its slots before, the one that it is after.
    slots: Vec<Option<Slot>>,
    alike: &'m Alike,
}

impl<'m, 'r, 'b, 'a> Moved<'m, 'r, 'b, 'a> {
    fn of(
        (before, after): (&'m mut Session<'r, 'b>, &'m mut Session<'r, 'a>),
        renamed: NewAddress<'m>,
        alike: &'m Alike,
        unit: UnitId,
    ) -> Self {
        let (old, new) = (before.ledger(), after.ledger());
        let subject = Subject::Unit(unit, None);
        let owner = renamed(&Address::of_owner(Some(old.owner(subject)), None)).owner;
        let id = owner.as_ref().and_then(|owner| new.unit_id(owner.names().0));
        let slot_after = |slot: Slot| {
            let (entry, field) = old.field(subject, slot);
            let address =
                renamed(&Address::of_field(old.owner(subject), &entry.name, field.name.as_ref(), None));
            let (entry, field) = (address.entry?, address.field);
            new.find_slot(Subject::Unit(id?, None), entry.as_str(), field.as_ref().map(Name::as_str)).ok()
        };
        let slots = old.slots(subject).all().map(slot_after).collect();
        before.move_to(unit);
        after.move_to(id);
        Self { renamed, before, after, slots, alike }
    }

    /// What changes of the unit, or one of its instances, in a stage.
    fn effects(&mut self, subject: Subject, stage: StageId) -> Vec<Effect> {
        let (old, new) = (self.before.ledger(), self.after.ledger());
        let after = new.subject_at(&(self.renamed)(&old.address_in(subject, stage)));
        let shown_before = self.before.all_at_once(subject, stage);
        let shown_after = after.map(|(subject, stage)| self.after.all_at_once(subject, stage));
        let shown_after = shown_after.unwrap_or_default();
        let mut is_reached = vec![false; shown_after.len()];
        let mut found = Vec::new();
        for ((slot, to), shown) in old.slots(subject).all().zip(&self.slots).zip(shown_before) {
            let was = FieldId { subject, stage, slot };
            let field = after.zip(*to).map(|((subject, stage), slot)| FieldId { subject, stage, slot });
            let Some(field) = field else {
                let (address, before) = ((self.renamed)(&old.address(was)), compared(self.before, was));
                found.extend(effect((address, false, Some(before), None)));
                continue;
            };
            let at = field.slot.0 as usize;
            is_reached[at] = true;
            let shown = (shown, shown_after[at]);
            found.extend(between((self.before, self.after), (was, field), shown, false, self.alike));
        }
        let Some((subject, stage)) = after else { return found };
        for slot in new.slots(subject).all().filter(|slot| !is_reached[slot.0 as usize]) {
            let field = FieldId { subject, stage, slot };
            let after = compared(self.after, field);
            found.extend(effect((new.address(field), false, None, Some(after))));
        }
        found
    }
}
