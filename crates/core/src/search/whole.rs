//! All settings and defaults that stand in a ledger, in their order.

use super::{Found, Written};
use crate::model::{Default, InstanceId, Ledger, Setting, SettingValue, Slot, Subject, UnitId};
use crate::value::Held;

/// Those of shared entries: defaults first, then by stage and group.
pub(super) fn of_shared(ledger: &Ledger) -> impl Iterator<Item = Found<'_>> {
    let defaults = ledger.shared_slots.all().filter_map(|slot| {
        let default = ledger.field(Subject::Shared, slot).1.default.as_ref()?;
        by_default(Subject::Shared, slot, default)
    });
    let settings = ledger.layer_ids().flat_map(|layer| {
        let entries = ledger.shared_slots.entries.iter().zip(&ledger.layer(layer).shared);
        entries.flat_map(move |(known, settings)| {
            let slot = |setting: &Setting| Slot(known.first + setting.slot.0);
            settings.iter().map(move |it| set(Written::In(layer), Subject::Shared, slot(it), it))
        })
    });
    defaults.chain(settings)
}

/// Those of a unit and its instances: defaults first, then by stage and group.
pub(super) fn of_unit(ledger: &Ledger, id: UnitId) -> impl Iterator<Item = Found<'_>> {
    let (unit, subject) = (ledger.unit(id), Subject::Unit(id, None));
    let defaults = unit.slots.all().filter_map(move |slot| {
        let is_own = unit.slots.entry_of(slot).0.entry.shared().is_none();
        let default = ledger.field(subject, slot).1.default.as_ref().filter(|_| is_own)?;
        by_default(subject, slot, default)
    });
    let settings = ledger.layer_ids().flat_map(move |layer| {
        let of_layer = ledger.unit_layer(unit, layer);
        let instances = of_layer.instances.iter().map(|(instance, _, list)| (Some(*instance), list));
        let lists = std::iter::once((None, &of_layer.unit)).chain(instances);
        lists.flat_map(move |(instance, list): (Option<InstanceId>, _)| {
            list.iter().map(move |it| set(Written::In(layer), Subject::Unit(id, instance), it.slot, it))
        })
    });
    defaults.chain(settings)
}

fn by_default(subject: Subject, slot: Slot, default: &Default) -> Option<Found<'_>> {
    let place = Some(default.place?);
    Some(Found { written: Written::Default, subject, slot, setting: None, held: Some(&default.value), place })
}

fn set(written: Written, subject: Subject, slot: Slot, setting: &Setting) -> Found<'_> {
    Found { written, subject, slot, setting: Some(setting), held: held(setting), place: Some(setting.place) }
}

fn held(setting: &Setting) -> Option<&Held> {
    match &setting.value {
        SettingValue::Value(held) => Some(held),
        SettingValue::Absent | SettingValue::From(_) | SettingValue::Cipher(_) => None,
    }
}
