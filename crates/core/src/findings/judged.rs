//! What concerns a unit in a stage: everything that is effective for it there.
//!
//! That is what is wrong with its own fields and those of its instances, with the shared entries that it uses, and
//! with the fields of others that its values are made of. Some of it shows only in the light of all other stages and
//! units: a report goes through the whole ledger, and leaves the rest out; the gate looks only at what can be an error of
//! theirs.

use std::collections::BTreeSet;

use jiff::civil::Date;
use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

use super::bounds::Looked;
use super::code::{Code, Severity};
use super::finding::Finding;
use super::standing::{Report, standing_of};
use super::through::{near, whole};
use crate::address::{Address, Owner};
use crate::impact::referred;
use crate::model::{InstanceId, LayerId, Ledger, StageId, Subject, UnitId};
use crate::name::Name;
use crate::resolve::{FieldId, Resolver, Session};

/// Checks what concerns these units and instances in these stages. A unit is judged with its instances, an instance
/// alone. `today` is the day from which last days are counted.
pub(super) fn judge(resolver: &Resolver<'_>, wanted: &[(Subject, StageId)], today: Option<Date>) -> Report {
    let concern = Concern::of(resolver, wanted);
    let mut report = whole(resolver, today);
    report.findings.retain(|finding| concern.has(finding));
    report.waived.retain(|(finding, _)| concern.has(finding));
    report.unreadable.retain(|address| Address::parse(address).is_ok_and(|it| concern.has_address(&it)));
    report.standings.retain(|standing| concern.units.contains_key(&standing.unit));
    concern.count_others(&mut report);
    report
}

/// What holds these units and instances up on their way out of these stages: the errors of all that concerns them, but
/// those about settings that have no effect. Nothing else is looked at.
pub fn gate(resolver: &Resolver<'_>, wanted: &[(Subject, StageId)], today: Option<Date>) -> Vec<Finding> {
    let concern = Concern::of(resolver, wanted);
    let report = if idle_are_errors(resolver.ledger()) {
        whole(resolver, today)
    } else {
        let (units, stages) = concern.looked_at(wanted);
        let looked = Looked { stages: Some(stages), ..Looked::default() };
        near(resolver, &units, looked, true, today)
    };
    let holds_up = |finding: &Finding| {
        finding.severity == Severity::Error
            && !matches!(finding.code, Code::UnknownName | Code::UnusedSetting)
            && concern.has(finding)
    };
    report.findings.into_iter().filter(holds_up).collect()
}

/// Whether it is an error by the ledger's own word that nothing needs a waiver or a rule: that shows beside all stages and
/// units alone.
fn idle_are_errors(ledger: &Ledger) -> bool {
    let of_waivers = [Code::WaiverExpired, Code::WaiverUnneeded, Code::WaiverTooWide];
    let is_error = |code: &Code| ledger.judging.severities.get(code) == Some(&Severity::Error);
    !ledger.waivers.is_empty() && of_waivers.iter().any(is_error)
        || !ledger.judging.rules.is_empty() && is_error(&Code::Rule)
}

/// All that concerns what is judged.
struct Concern<'l> {
    ledger: &'l Ledger,
    /// The units, with the instances that are meant; all of them, and the unit itself, where there is none.
    units: FxHashMap<UnitId, BTreeSet<InstanceId>>,
    /// The names of the stages, and of the groups that count in them.
    layers: FxHashSet<&'l str>,
    /// The shared entries that are used, by name.
    used: FxHashSet<&'l str>,
    /// The fields of others that values are made of, by unit and entry; shared ones without a unit.
    reached: FxHashMap<(Option<UnitId>, &'l str), Vec<FieldId>>,
}

impl<'l> Concern<'l> {
    fn of(resolver: &Resolver<'l>, wanted: &[(Subject, StageId)]) -> Self {
        let ledger = resolver.ledger();
        let mut concern = Self {
            ledger,
            units: FxHashMap::default(),
            layers: FxHashSet::from_iter(["default"]),
            used: FxHashSet::default(),
            reached: FxHashMap::default(),
        };
        let whole: FxHashSet<UnitId> =
            wanted.iter().filter_map(|(subject, _)| unit_alone(*subject)).collect();
        for &(subject, stage) in wanted {
            let Subject::Unit(unit, instance) = subject else { continue };
            let meant = concern.units.entry(unit).or_default();
            meant.extend(instance.filter(|_| !whole.contains(&unit)));
            concern.layers.insert(ledger.stage(stage).name.as_str());
            let groups = ledger.stage(stage).groups.iter();
            concern.layers.extend(groups.map(|&group| ledger.layer_name(LayerId::Group(group)).as_str()));
            concern
                .used
                .extend(ledger.unit(unit).uses.iter().map(|&id| ledger.shared_entry(id).name.as_str()));
        }
        concern.reach(resolver, wanted);
        concern
    }

    /// Follows all references from the fields of what is judged.
    fn reach(&mut self, resolver: &Resolver<'l>, wanted: &[(Subject, StageId)]) {
        let ledger = self.ledger;
        let start = || (resolver.session(None), FxHashSet::default());
        let seen = wanted.par_iter().fold(start, |(mut session, mut seen), &(subject, stage)| {
            follow(&mut session, subject, stage, &mut seen);
            (session, seen)
        });
        let seen: Vec<FxHashSet<FieldId>> = seen.map(|(_, seen)| seen).collect();
        for field in seen.into_iter().flatten() {
            let unit = match field.subject {
                Subject::Shared => None,
                Subject::Unit(unit, _) if self.units.contains_key(&unit) => continue,
                Subject::Unit(unit, _) => Some(unit),
            };
            let entry = ledger.field(field.subject, field.slot).0.name.as_str();
            self.reached.entry((unit, entry)).or_default().push(field);
        }
    }

    /// The units and the stages in which anything can be found that concerns what is judged.
    fn looked_at(&self, wanted: &[(Subject, StageId)]) -> (FxHashSet<UnitId>, FxHashSet<StageId>) {
        let reached =
            self.reached.iter().flat_map(|((unit, _), fields)| fields.iter().map(move |it| (unit, it)));
        let (mut units, mut stages): (FxHashSet<UnitId>, FxHashSet<StageId>) =
            (self.units.keys().copied().collect(), wanted.iter().map(|(_, stage)| *stage).collect());
        for (unit, field) in reached {
            units.extend(*unit);
            stages.insert(field.stage);
        }
        (units, stages)
    }

    fn has(&self, finding: &Finding) -> bool {
        let suffers = finding.needed_by.iter().any(|unit| self.units.contains_key(unit));
        let here = finding.stage.as_deref().is_none_or(|stage| self.layers.contains(stage));
        let address = Address::parse(&finding.address).map(|address| {
            // What is said of a whole unit may still be so in one stage alone.
            let stage = finding.stage.as_deref().and_then(|stage| Name::parse(stage).ok());
            Address { stage: address.stage.or(stage), ..address }
        });
        suffers && here || address.is_ok_and(|address| self.has_address(&address))
    }

    fn has_address(&self, address: &Address) -> bool {
        let stage = address.stage.as_ref().map(Name::as_str);
        let here = stage.is_none_or(|stage| self.layers.contains(stage));
        match &address.owner {
            None => false,
            Some(Owner::Shared) => {
                let is_used = address.entry.as_ref().is_some_and(|entry| self.used.contains(entry.as_str()));
                here && is_used || self.has_reached(None, address)
            }
            Some(Owner::Unit(name, instance)) => {
                let Some(id) = self.ledger.unit_id(name.as_str()) else { return false };
                match self.units.get(&id) {
                    Some(meant) if meant.is_empty() => here,
                    // What is wrong with the unit's own declarations concerns each instance.
                    Some(meant) => {
                        let instance =
                            instance.as_ref().map(|name| self.ledger.unit(id).instance(name.as_str()));
                        here && instance.is_none_or(|it| it.is_some_and(|it| meant.contains(&it)))
                    }
                    None => self.has_reached(Some(id), address),
                }
            }
        }
    }

    /// Whether an address names a field of another unit, or a shared one, that was reached.
    fn has_reached(&self, unit: Option<UnitId>, address: &Address) -> bool {
        let Some(entry) = &address.entry else { return false };
        let reached = self.reached.get(&(unit, entry.as_str())).map(Vec::as_slice).unwrap_or_default();
        reached.iter().any(|field| {
            let declaration = self.ledger.field(field.subject, field.slot).1;
            let stage = self.ledger.stage(field.stage);
            let counts_there = |name: &str| {
                name == "default"
                    || stage.name.as_str() == name
                    || stage.groups.iter().any(|&id| self.ledger.group(id).name.as_str() == name)
            };
            address.field.as_ref().is_none_or(|field| declaration.name.as_ref() == Some(field))
                && address.stage.as_ref().is_none_or(|name| counts_there(name.as_str()))
        })
    }

    /// Counts what is wrong with others in how the units stand that are judged.
    fn count_others(&self, report: &mut Report) {
        let others: Vec<Finding> = report
            .findings
            .iter()
            .filter(|finding| finding.unit.is_some_and(|unit| !self.units.contains_key(&unit)))
            .cloned()
            .collect();
        for (finding, &unit) in others.iter().flat_map(|it| self.units.keys().map(move |unit| (it, unit))) {
            let Some(standing) = standing_of(&mut report.standings, unit) else { continue };
            for (stage, here) in self.ledger.stage_ids().zip(&mut standing.stages) {
                if here.belongs && self.layers.contains(self.ledger.stage(stage).name.as_str()) {
                    here.count(Some(finding.severity));
                }
            }
        }
    }
}

/// Collects the fields that those of a unit or instance in a stage, and of the unit's instances, refer to, directly or
/// through others.
fn follow(session: &mut Session<'_, '_>, subject: Subject, stage: StageId, seen: &mut FxHashSet<FieldId>) {
    let ledger = session.ledger();
    let Subject::Unit(unit, instance) = subject else { return };
    if !ledger.unit(unit).belongs_to(stage, instance) {
        return;
    }
    session.move_to(unit);
    let mut open = Vec::new();
    let instances = ledger.unit(unit).instances_in(stage).filter(|_| instance.is_none());
    for subject in instances.map(|it| Subject::Unit(unit, Some(it))).chain([subject]) {
        for slot in ledger.slots(subject).all() {
            let field = FieldId { subject, stage, slot };
            if session.value_as_written(field).is_none() {
                open.extend(referred(&session.outcome(field)));
            }
        }
    }
    while let Some(field) = open.pop() {
        if seen.insert(field) {
            open.extend(referred(&session.outcome(field)));
        }
    }
}

/// The unit, if no instance of it is meant.
fn unit_alone(subject: Subject) -> Option<UnitId> {
    match subject {
        Subject::Unit(unit, None) => Some(unit),
        Subject::Unit(_, Some(_)) | Subject::Shared => None,
    }
}
