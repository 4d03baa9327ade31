//! What depends on a value: the way back along references, groups and follows.

use std::collections::{BTreeMap, BTreeSet};

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::model::{InstanceId, Kind, LayerId, Ledger, Setting, Slot, StageId, Subject, UnitId};
use crate::resolve::{Because, FieldId, Outcome, Resolver, Session};
use crate::source::Place;
use crate::trace::origin;

/// What everything is asked for that depends on it.
#[derive(Debug, Clone, Copy)]
pub struct Cause {
    /// Whose field.
    pub subject: Subject,
    /// The field.
    pub slot: Slot,
    /// Where it is written.
    pub written: Written,
}

/// Where a value that has effects is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Written {
    /// In the settings of a stage or group.
    In(LayerId),
    /// In the declaration.
    Default,
}

/// A field whose effective value depends on the cause.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Affected {
    /// The field.
    pub field: FieldId,
    /// The field that it depends on in turn; `None` if it is what was asked for, or gets its value
    /// right from there.
    pub through: Option<FieldId>,
}

/// A field with where its value comes from and the fields that it refers to.
struct Node {
    field: FieldId,
    place: Option<Place>,
    /// Of a lookup table: the places of all that its rows come from.
    parts: Vec<Place>,
    through: Vec<FieldId>,
}

impl Node {
    /// The places that its value comes from.
    fn places(&self) -> impl Iterator<Item = Place> {
        self.place.into_iter().chain(self.parts.iter().copied())
    }
}

/// All fields whose effective value depends on a value, nearest first.
pub fn impact(resolver: &Resolver<'_>, cause: Cause) -> Vec<Affected> {
    let ledger = resolver.ledger();
    let place = written_place(ledger, cause);
    let is_from_there = |node: &Node| {
        let asked = node.field.subject == cause.subject
            && node.field.slot == cause.slot
            && cause.written == Written::In(LayerId::Stage(node.field.stage));
        asked || place.is_some_and(|place| node.places().any(|from| from == place))
    };
    let stages = match cause.written {
        Written::Default => None,
        Written::In(layer) => ledger.stages_hanging_on([layer]),
    };
    let nodes = nodes(resolver, stages.as_ref(), is_from_there);
    let from_there = nodes.iter().filter(|node| is_from_there(node));
    affected(from_there.map(|node| node.field), &back(&nodes))
}

/// The same of whatever is written at a place.
pub fn depending_on(resolver: &Resolver<'_>, place: Place) -> Vec<Affected> {
    let is_from_there = |node: &Node| node.places().any(|from| from == place);
    let nodes = nodes(resolver, None, is_from_there);
    let from_there = nodes.iter().filter(|node| is_from_there(node));
    affected(from_there.map(|node| node.field), &back(&nodes))
}

/// The units and instances, in which stages, with a value that depends on what is written at each of these places.
pub fn users(
    resolver: &Resolver<'_>,
    places: &BTreeSet<Place>,
) -> BTreeMap<Place, BTreeSet<(StageId, UnitId, Option<InstanceId>)>> {
    let nodes = nodes(resolver, None, |node| node.places().any(|place| places.contains(&place)));
    let back = back(&nodes);
    let mut from: FxHashMap<Place, Vec<FieldId>> = FxHashMap::default();
    for node in &nodes {
        for place in node.places().filter(|place| places.contains(place)) {
            from.entry(place).or_default().push(node.field);
        }
    }
    let user = |affected: Affected| match affected.field.subject {
        Subject::Unit(unit, instance) => Some((affected.field.stage, unit, instance)),
        Subject::Shared => None,
    };
    let users = |fields| affected(fields, &back).into_iter().filter_map(user).collect();
    from.into_iter().map(|(place, fields)| (place, users(fields.into_iter()))).collect()
}

/// For each field those that refer to it.
fn back(nodes: &[Node]) -> FxHashMap<FieldId, Vec<FieldId>> {
    let mut back: FxHashMap<FieldId, Vec<FieldId>> = FxHashMap::default();
    for node in nodes {
        for &to in &node.through {
            back.entry(to).or_default().push(node.field);
        }
    }
    back
}

/// These fields and all that depend on them, nearest first.
fn affected(fields: impl Iterator<Item = FieldId>, back: &FxHashMap<FieldId, Vec<FieldId>>) -> Vec<Affected> {
    let mut seen: FxHashSet<FieldId> = FxHashSet::default();
    let first = fields.filter(|field| seen.insert(*field));
    let mut found: Vec<Affected> = first.map(|field| Affected { field, through: None }).collect();
    let mut next = 0;
    while let Some(through) = found.get(next).map(|affected| affected.field) {
        for &field in back.get(&through).into_iter().flatten() {
            if seen.insert(field) {
                found.push(Affected { field, through: Some(through) });
            }
        }
        next += 1;
    }
    found
}

/// The fields that a field refers to.
pub(crate) fn referred(outcome: &Outcome<'_>) -> Vec<FieldId> {
    match outcome {
        Outcome::Value(effective) => effective.through.iter().flat_map(|fields| fields.to_vec()).collect(),
        Outcome::Missing(Because::NeedsMissing(other), _) => vec![*other],
        Outcome::Broken(problems) => problems.iter().filter_map(|p| p.path.get(1).copied()).collect(),
        _ => Vec::new(),
    }
}

/// The fields that refer to others, and those that somebody means; of these stages alone, if they are given.
fn nodes(
    resolver: &Resolver<'_>,
    stages: Option<&BTreeSet<StageId>>,
    is_meant: impl Fn(&Node) -> bool + Sync,
) -> Vec<Node> {
    let ledger = resolver.ledger();
    let is_looked_at = |stage: &StageId| stages.is_none_or(|stages| stages.contains(stage));
    let of_field = |session: &mut Session<'_, '_>, field: FieldId| {
        if let Some(origin) = session.origin_as_written(field) {
            return Node { field, place: origin.place, parts: Vec::new(), through: Vec::new() };
        }
        let outcome = session.outcome(field);
        let through = referred(&outcome);
        let parts = match ledger.field(field.subject, field.slot).0.kind {
            Kind::Table { .. } => session.rows(field).parts,
            _ => Vec::new(),
        };
        Node { field, parts, place: origin(&outcome).and_then(|origin| origin.place), through }
    };
    let of_subject = |session: &mut Session<'_, '_>, subject: Subject, stage: StageId| {
        let fields = ledger.slots(subject).all().map(|slot| FieldId { subject, stage, slot });
        let nodes = fields.map(|field| of_field(session, field));
        nodes.filter(|node| !node.through.is_empty() || is_meant(node)).collect::<Vec<_>>()
    };
    let of_unit = |session: &mut Session<'_, '_>, unit| {
        let places = ledger.places_of(unit).filter(|(_, stage)| is_looked_at(stage));
        places.flat_map(|(subject, stage)| of_subject(session, subject, stage)).collect::<Vec<_>>()
    };
    let units: Vec<UnitId> = ledger.unit_ids().collect();
    let mut nodes: Vec<Node> = resolver.of_units(units, of_unit).flatten_iter().collect();
    let mut session = resolver.session(None);
    for stage in ledger.stage_ids().filter(is_looked_at) {
        nodes.extend(of_subject(&mut session, Subject::Shared, stage));
    }
    nodes
}

/// Where the value stands that was asked for, if it is written there.
fn written_place(ledger: &Ledger, cause: Cause) -> Option<Place> {
    match cause.written {
        Written::Default => ledger.field(cause.subject, cause.slot).1.default.as_ref()?.place,
        Written::In(layer) => {
            ledger.setting_at(layer, cause.subject, cause.slot).map(|setting| setting.place)
        }
    }
}

impl Ledger {
    /// The setting that stands in a layer for a subject's field.
    pub fn setting_at(&self, layer: LayerId, subject: Subject, slot: Slot) -> Option<&Setting> {
        match subject {
            Subject::Shared => {
                let (entry, position) = self.shared_slots.entry_of(slot);
                let at = self.shared_slots.entries.iter().position(|known| known.first == entry.first)?;
                let settings = self.layer(layer).shared.get(at)?;
                settings.iter().find(|setting| setting.slot.0 as usize == position)
            }
            Subject::Unit(unit, instance) => {
                let settings = self.unit_layer(self.unit(unit), layer);
                let list = match instance {
                    None => &settings.unit,
                    Some(wanted) => {
                        let mut own = settings.instances.iter().filter(|(id, ..)| *id == wanted);
                        own.next().map(|(.., settings)| settings)?
                    }
                };
                list.iter().find(|setting| setting.slot == slot)
            }
        }
    }
}
