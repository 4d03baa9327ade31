//! Where a value that is taken over goes: what is shared stays shared, as long as all that see it have the same.

use cledger_core::address::{Address, Owner};
use cledger_core::model::{LayerId, Ledger, Slot, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{FieldId, Layer, Origin, Resolver, Session};

use crate::drift::live::{Field, Live, Lives, Seen, is_same};
use crate::meant::unit_of;

/// Where it goes.
pub(crate) enum Goes {
    /// To where its value stands now: the field of a shared entry, of the unit, or of the instance itself.
    There(Subject, Slot),
    /// To a setting of its own, since what it has in common with others is not the same there for this one of them, or
    /// nobody can tell.
    Alone(String, IsKnown),
}

/// Whether one knows what another one has there.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum IsKnown {
    Yes,
    No,
}

/// Where what is live of a field goes: its setting is written for all that have it in common, or for it alone.
pub(crate) fn goes(resolver: &Resolver<'_>, lives: &Lives<'_>, field: Field) -> Goes {
    let ledger = resolver.ledger();
    let (subject, stage, slot) = field;
    let own = Goes::There(subject, slot);
    let mut session = resolver.session(unit_of(subject));
    let Some(origin) = origin(&mut session, field) else { return own };
    let Some((holder, at)) = holder(ledger, (subject, slot), origin) else { return own };
    if holder == subject {
        return own;
    }
    let live = |field: Field| lives.of_field(field).next().map(|live| live.drifted.there.as_ref());
    let Some(wanted) = live(field) else { return own };
    for (other, slot) in seeing(ledger, stage, (holder, at)) {
        let theirs = (other, stage, slot);
        let sees_it = origin_of(resolver, theirs).is_some_and(|other| other.place == origin.place);
        if !sees_it || theirs == field {
            continue;
        }
        let is_same = live(theirs).is_some_and(|live| is_same(live, wanted))
            && lives.of_field(theirs).all(|live| is_same(live.drifted.there.as_ref(), wanted));
        if !is_same {
            let is_hidden = lives.of_field(theirs).any(Live::is_hidden);
            let is_known = match lives.seen(theirs) {
                Seen::NotKnown(_) => IsKnown::No,
                _ if is_hidden => IsKnown::No,
                _ => IsKnown::Yes,
            };
            return Goes::Alone(ledger.owner(other).to_string(), is_known);
        }
    }
    Goes::There(holder, at)
}

/// Those of a stage that see what a shared entry, or a unit for its instances, says.
pub(crate) fn seeing(ledger: &Ledger, stage: StageId, (holder, at): (Subject, Slot)) -> Vec<(Subject, Slot)> {
    let (entry, field) = ledger.field(holder, at);
    let field = field.name.as_ref().map(Name::as_str);
    let slot_of = |subject: Subject| {
        let slot = ledger.find_slot(subject, entry.name.as_str(), field).ok()?;
        let sees = match (holder, subject) {
            (Subject::Shared, _) => is_of_shared(ledger, subject, slot),
            (Subject::Unit(unit, _), Subject::Unit(other, _)) => unit == other,
            (Subject::Unit(..), Subject::Shared) => false,
        };
        sees.then_some((subject, slot))
    };
    ledger.subjects_in(stage).filter_map(slot_of).collect()
}

/// Whether a field has its value from what a shared entry says.
pub(crate) fn is_shared(resolver: &Resolver<'_>, field: Field) -> bool {
    let holder = |origin| holder(resolver.ledger(), (field.0, field.2), origin);
    origin_of(resolver, field).and_then(holder).is_none_or(|(holder, _)| holder == Subject::Shared)
}

/// What a field's value comes from, as far as it has one.
fn origin_of(resolver: &Resolver<'_>, field: Field) -> Option<Origin> {
    origin(&mut resolver.session(unit_of(field.0)), field)
}

fn origin(session: &mut Session<'_, '_>, (subject, stage, slot): Field) -> Option<Origin> {
    let outcome = session.outcome(FieldId { subject, stage, slot });
    Some(outcome.value()?.origin)
}

/// Whose setting or default a value is: that of the shared entry, of the unit, or of the instance.
fn holder(ledger: &Ledger, (subject, slot): (Subject, Slot), origin: Origin) -> Option<(Subject, Slot)> {
    let Subject::Unit(unit, instance) = subject else { return Some((subject, slot)) };
    let place = origin.place?;
    let stands_at = |owner: Subject| {
        ledger.layer_ids().any(|layer: LayerId| {
            ledger.setting_at(layer, owner, slot).is_some_and(|setting| {
                let of = setting.place;
                of.file == place.file && (of.start..=of.end).contains(&place.start)
            })
        })
    };
    let owners = instance.map(|_| subject).into_iter().chain([Subject::Unit(unit, None)]);
    if origin.layer != Layer::Default
        && let Some(owner) = owners.into_iter().find(|owner| stands_at(*owner))
    {
        return Some((owner, slot));
    }
    let (entry, field) = ledger.field(subject, slot);
    if !is_of_shared(ledger, subject, slot) {
        return Some((Subject::Unit(unit, None), slot));
    }
    let name = field.name.as_ref().map(Name::as_str);
    Some((Subject::Shared, ledger.find_slot(Subject::Shared, entry.name.as_str(), name).ok()?))
}

/// The address of a field as that of the shared entry that it is of, if it is of one.
pub(crate) fn of_shared(ledger: &Ledger, subject: Subject, slot: Slot, stage: StageId) -> Option<Address> {
    let (entry, field) = ledger.field(subject, slot);
    let stage = &ledger.stage(stage).name;
    let address = || Address::of_field(Owner::Shared, &entry.name, field.name.as_ref(), Some(stage));
    is_of_shared(ledger, subject, slot).then(address)
}

/// Whether a field is one of a shared entry.
pub(crate) fn is_of_shared(ledger: &Ledger, subject: Subject, slot: Slot) -> bool {
    ledger.slots(subject).entry_of(slot).0.entry.shared().is_some()
}
