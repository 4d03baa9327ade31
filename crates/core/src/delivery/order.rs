//! In which order stages have a delivery, and in which one units are withdrawn.

use std::collections::{BTreeMap, BTreeSet};

use crate::impact::referred;
use crate::model::{Ledger, StageId, Subject, UnitId};
use crate::resolve::{FieldId, Resolver};

/// The first stage before this one to which the unit belongs and which has not `had` it; [`None`] if all have.
pub fn lacking_before<E>(
    ledger: &Ledger,
    subject: Subject,
    stage: StageId,
    mut had: impl FnMut(StageId) -> Result<bool, E>,
) -> Result<Option<StageId>, E> {
    let Subject::Unit(unit, instance) = subject else { return Ok(None) };
    for &before in &ledger.stage(stage).after {
        if ledger.unit(unit).belongs_to(before, instance) && !had(before)? {
            return Ok(Some(before));
        }
    }
    Ok(None)
}

/// The same units and instances of a stage, in an order in which whoever refers to another one comes before it. Those
/// that refer to each other, or to nobody, keep the order in which they are given.
pub fn referring_first(resolver: &Resolver<'_>, stage: StageId, given: &[Subject]) -> Vec<Subject> {
    let mut referring: BTreeMap<UnitId, Vec<Subject>> = BTreeMap::new();
    for &subject in given {
        for unit in units_referred(resolver, subject, stage) {
            referring.entry(unit).or_default().push(subject);
        }
    }
    let (mut seen, mut ordered) = (BTreeSet::new(), Vec::new());
    // Each is begun once, and put down after all that refer to it.
    let mut open: Vec<(Subject, bool)> = given.iter().rev().map(|&subject| (subject, false)).collect();
    while let Some((subject, is_next)) = open.pop() {
        if is_next {
            ordered.push(subject);
        } else if seen.insert(subject) {
            open.push((subject, true));
            let Subject::Unit(unit, _) = subject else { continue };
            let before = referring.get(&unit).into_iter().flatten().rev();
            open.extend(before.filter(|other| !seen.contains(other)).map(|&other| (other, false)));
        }
    }
    ordered
}

/// The same in an order in which those that others refer to come before these.
pub fn referred_first(resolver: &Resolver<'_>, stage: StageId, given: &[Subject]) -> Vec<Subject> {
    let backwards: Vec<Subject> = given.iter().rev().copied().collect();
    let mut ordered = referring_first(resolver, stage, &backwards);
    ordered.reverse();
    ordered
}

/// The other units that fields of one refer to in a stage, over shared entries as well.
fn units_referred(resolver: &Resolver<'_>, subject: Subject, stage: StageId) -> BTreeSet<UnitId> {
    let Subject::Unit(own, _) = subject else { return BTreeSet::new() };
    let (mut session, mut shared) = (resolver.session(Some(own)), resolver.session(None));
    let slots = resolver.ledger().slots(subject).all();
    let mut open: Vec<FieldId> = slots.map(|slot| FieldId { subject, stage, slot }).collect();
    let (mut seen, mut units) = (BTreeSet::new(), BTreeSet::new());
    while let Some(field) = open.pop() {
        match field.subject {
            Subject::Unit(unit, _) if unit != own => drop(units.insert(unit)),
            _ if !seen.insert(field) => {}
            Subject::Unit(..) => open.extend(referred(&session.outcome(field))),
            Subject::Shared => open.extend(referred(&shared.outcome(field))),
        }
    }
    units
}
