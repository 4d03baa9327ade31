//! Going through a ledger for all findings.

use std::collections::{BTreeMap, BTreeSet};

use jiff::civil::Date;
use rayon::prelude::*;
use rustc_hash::FxHashSet;

use super::{
    Code, Finding, Severity, aligned, certificates, defaults, distinct, expiry, names, other_stage, outputs,
    rules, stages, tables, values, waivers,
};
use crate::address::{Owner, Pattern};
use crate::model::{InstanceId, LayerId, Ledger, SharedId, StageId, Subject, UnitId, Waived};
use crate::resolve::Resolver;
use crate::search::Found;
use crate::source::Place;

/// How a unit stands in a stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Standing {
    /// Whether it belongs there at all.
    pub belongs: bool,
    /// How many of its fields have an error.
    pub errors: u32,
    /// How many have a warning.
    pub warnings: u32,
}

impl Standing {
    /// Counts a finding, unless it is waived.
    pub(super) fn count(&mut self, severity: Option<Severity>) {
        match severity {
            Some(Severity::Error) => self.errors += 1,
            Some(Severity::Warning) => self.warnings += 1,
            None => {}
        }
    }
}

impl Standing {
    /// Counts a finding with another severity than before.
    pub(super) fn recount(&mut self, before: Severity, now: Severity) {
        match before {
            Severity::Error => self.errors = self.errors.saturating_sub(1),
            Severity::Warning => self.warnings = self.warnings.saturating_sub(1),
        }
        self.count(Some(now));
    }
}

/// How a unit stands in all stages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnitStanding {
    /// The unit.
    pub unit: UnitId,
    /// By stage.
    pub stages: Vec<Standing>,
}

/// How a unit stands, among those that are looked at, which are sorted by unit.
pub(super) fn standing_of(standings: &mut [UnitStanding], unit: UnitId) -> Option<&mut UnitStanding> {
    let at = standings.binary_search_by_key(&unit, |standing| standing.unit).ok()?;
    standings.get_mut(at)
}

/// What a check comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// All findings, by address and code.
    pub findings: Vec<Finding>,
    /// What is waived, each with the position of its waiver.
    pub waived: Vec<(Finding, usize)>,
    /// How each unit stands, by name.
    pub standings: Vec<UnitStanding>,
    /// The addresses of secrets that could not be judged, since their keys are not at hand.
    pub unreadable: BTreeSet<String>,
}

impl Report {
    /// How many findings are of this severity.
    pub fn count(&self, severity: Severity) -> usize {
        self.findings.iter().filter(|finding| finding.severity == severity).count()
    }
}

/// What is checked: the addresses that a pattern covers.
pub(super) struct Bounds<'l> {
    pub(super) ledger: &'l Ledger,
    pattern: Option<&'l Pattern>,
    today: Option<Date>,
    /// The layers that the pattern covers, if there is one.
    layers: Option<FxHashSet<LayerId>>,
    /// Where secrets stand in plain text and that is waived.
    plain_waived: FxHashSet<Place>,
}

impl Bounds<'_> {
    /// Whether a unit's fields are looked at: also where only shared entries are asked for, since
    /// what is wrong with those shows in the units that use them.
    pub(super) fn looks_at(&self, unit: UnitId) -> bool {
        let covers = |pattern: &Pattern| {
            let unit = self.ledger.unit(unit);
            let mut instances = unit.instances.iter();
            pattern.covers_owner("shared", None)
                || pattern.covers_owner(unit.name.as_str(), None)
                || instances.any(|it| pattern.covers_owner(unit.name.as_str(), Some(it.name.as_str())))
        };
        self.pattern.is_none_or(covers)
    }

    pub(super) fn covers_owner(&self, owner: &str, instance: Option<&str>) -> bool {
        self.pattern.is_none_or(|pattern| pattern.covers_owner(owner, instance))
    }

    /// Whether a shared entry is covered: by itself, or as part of a unit that uses it.
    pub(super) fn covers_shared(&self, id: SharedId) -> bool {
        self.covers_owner("shared", None)
            || self.ledger.units.iter().any(|unit| {
                unit.uses.binary_search(&id).is_ok() && self.covers_owner(unit.name.as_str(), None)
            })
    }

    /// How bad a finding is by the ledger's own word; `None` if it is waived.
    pub(super) fn counts(&self, finding: &Finding) -> Option<Severity> {
        let waived =
            !self.ledger.waivers.is_empty() && waivers::of(self.ledger, finding, self.today).is_some();
        (!waived).then(|| self.severity(finding.code, finding.severity))
    }

    /// The severity of a code by the ledger's own word.
    fn severity(&self, code: Code, usual: Severity) -> Severity {
        self.ledger.judging.severities.get(&code).copied().unwrap_or(usual)
    }

    /// How bad a secret in plain text at a place is; `None` if that is waived.
    pub(super) fn plain_counts(&self, at: Place, usual: Severity) -> Option<Severity> {
        (!self.plain_waived.contains(&at)).then(|| self.severity(Code::PlainSecret, usual))
    }

    /// Whether all of the ledger is looked at.
    pub(super) fn is_whole(&self) -> bool {
        self.pattern.is_none()
    }

    /// A unit and its instances, wherever they belong.
    pub(super) fn subjects_of(&self, id: UnitId) -> impl Iterator<Item = (Subject, Option<InstanceId>)> {
        let count = u16::try_from(self.ledger.unit(id).instances.len()).unwrap_or(u16::MAX);
        let instances = (0..count).map(|at| Some(InstanceId(at)));
        std::iter::once(None).chain(instances).map(move |instance| (Subject::Unit(id, instance), instance))
    }

    /// Where a unit and its instances belong, as far as these stages are covered.
    pub(super) fn places_of(&self, id: UnitId) -> impl Iterator<Item = (Subject, StageId)> {
        let unit = self.ledger.unit(id);
        let here = |stage: &StageId| unit.belongs_to(*stage, None) && self.covers_stage(*stage);
        self.ledger.stage_ids().filter(here).flat_map(move |stage| {
            let instances = std::iter::once(None).chain(unit.instances_in(stage).map(Some));
            instances.map(move |instance| (Subject::Unit(id, instance), stage))
        })
    }

    /// Whether a field that is written or seen under this owner is covered.
    pub(super) fn covers(&self, owner: &Owner, entry: &str, field: Option<&str>) -> bool {
        let (name, instance) = owner.names();
        self.covers_owner(name, instance) && self.covers_field(entry, field)
    }

    pub(super) fn covers_field(&self, entry: &str, field: Option<&str>) -> bool {
        self.pattern.is_none_or(|pattern| pattern.covers_field(entry, field))
    }

    pub(super) fn covers_stage(&self, stage: StageId) -> bool {
        let name = self.ledger.stage(stage).name.as_str();
        self.pattern.is_none_or(|pattern| pattern.covers_stage(name))
    }

    /// Whether a layer is covered by its own name or by that of a stage in which it counts.
    pub(super) fn covers_layer(&self, layer: LayerId) -> bool {
        self.layers.as_ref().is_none_or(|layers| layers.contains(&layer))
    }
}

/// The layers that a pattern covers, by their own names or by those of stages in which they count.
fn covered_layers(resolver: &Resolver<'_>, pattern: &Pattern) -> FxHashSet<LayerId> {
    let ledger = resolver.ledger();
    let named = ledger.layer_ids().filter(|&layer| pattern.covers_stage(ledger.layer_name(layer).as_str()));
    let stages = ledger.stage_ids().filter(|&stage| pattern.covers_stage(ledger.stage(stage).name.as_str()));
    let counting = stages.flat_map(|stage| resolver.chain(stage).iter().map(|it| it.layer));
    named.chain(counting).collect()
}

/// Checks everything that the pattern covers, or everything. `today` is the day from which last days
/// are counted; without it, none is over.
pub fn check(resolver: &Resolver<'_>, pattern: Option<&Pattern>, today: Option<Date>) -> Report {
    let ledger = resolver.ledger();
    let layers = pattern.map(|pattern| covered_layers(resolver, pattern));
    let bounds = Bounds { ledger, pattern, today, layers, plain_waived: plain_waived(ledger, today) };
    let units: Vec<UnitId> = ledger.unit_ids().filter(|&unit| bounds.looks_at(unit)).collect();
    let checked: Vec<(UnitStanding, Vec<Finding>, BTreeSet<String>, rules::Seen)> = units
        .par_iter()
        .map_init(
            || resolver.session(None),
            |session, &unit| {
                session.move_to(unit);
                let mut standing = UnitStanding { unit, stages: standings(ledger, unit) };
                let mut findings = Vec::new();
                names::of_unit(&bounds, resolver, unit, &mut standing, &mut findings);
                values::of_unit(&bounds, resolver, unit, &mut standing, &mut findings);
                outputs::of_unit(&bounds, unit, &mut standing, &mut findings);
                tables::of_unit(&bounds, resolver, unit, &mut standing, &mut findings);
                if let Some(today) = today {
                    expiry::of_unit(&bounds, session, unit, today, &mut standing, &mut findings);
                }
                defaults::of_unit(&bounds, session, unit, &mut standing, &mut findings);
                distinct::of_unit(&bounds, session, unit, &mut standing, &mut findings);
                aligned::of_unit(&bounds, session, unit, &mut standing, &mut findings);
                certificates::of_unit(&bounds, session, unit, &mut standing, &mut findings);
                let mut unreadable = BTreeSet::new();
                let (standing_of, found) = (&mut standing, &mut findings);
                super::effective::of_unit(&bounds, session, unit, standing_of, found, &mut unreadable);
                let seen = rules::of_unit(&bounds, session, unit, &mut standing, &mut findings);
                (standing, findings, unreadable, seen)
            },
        )
        .collect();
    let mut findings = Vec::new();
    names::of_shared(&bounds, &mut findings);
    names::strangers(&bounds, &mut findings);
    values::of_shared(&bounds, resolver, &mut findings);
    stages::follows(&bounds, &mut findings);
    stages::unused(&bounds, &mut findings);
    tables::of_shared(&bounds, &mut findings);
    let (mut standings, mut unreadable) = (Vec::with_capacity(checked.len()), BTreeSet::new());
    let mut seen = Vec::new();
    for (standing, of_unit, not_judged, by_rules) in checked {
        seen.push(by_rules);
        standings.push(standing);
        findings.extend(of_unit);
        unreadable.extend(not_judged);
    }
    rules::of_all(&bounds, seen, &mut standings, &mut findings);
    other_stage::all(&bounds, resolver, &mut standings, &mut findings);
    if let Some(today) = today {
        expiry::of_settings(&bounds, resolver, today, &mut standings, &mut findings);
    }
    let (mut findings, waived) = waive(&bounds, merged(findings));
    if let Some(today) = today.filter(|_| bounds.is_whole()) {
        waivers::judge(ledger, &waived, today, &mut findings);
    }
    for finding in &mut findings {
        finding.severity = bounds.severity(finding.code, finding.severity);
    }
    Report { findings, waived, standings, unreadable }
}

/// Where secrets stand in plain text and that is waived.
fn plain_waived(ledger: &Ledger, today: Option<Date>) -> FxHashSet<Place> {
    let plain = Waived::Finding(Code::PlainSecret);
    let waivers: Vec<_> =
        ledger.waivers.iter().filter(|waiver| waiver.what == plain && waiver.counts_on(today)).collect();
    if waivers.is_empty() {
        return FxHashSet::default();
    }
    let is_waived = |found: &Found<'_>| {
        let address = found.address(ledger);
        waivers.iter().any(|waiver| waiver.pattern.covers(&address))
    };
    let all = values::plain_secrets(ledger).into_iter().map(|(found, _)| found);
    all.filter(is_waived).filter_map(|found| found.place).collect()
}

/// Parts what is waived from the rest.
fn waive(bounds: &Bounds<'_>, findings: Vec<Finding>) -> (Vec<Finding>, Vec<(Finding, usize)>) {
    if bounds.ledger.waivers.is_empty() {
        return (findings, Vec::new());
    }
    let (mut kept, mut waived) = (Vec::new(), Vec::new());
    for finding in findings {
        match waivers::of(bounds.ledger, &finding, bounds.today) {
            Some(by) => waived.push((finding, by)),
            None => kept.push(finding),
        }
    }
    (kept, waived)
}

fn standings(ledger: &Ledger, unit: UnitId) -> Vec<Standing> {
    let belongs = ledger.unit(unit).belongs.iter();
    belongs.map(|&belongs| Standing { belongs, ..Standing::default() }).collect()
}

/// Sorts findings, and makes one of those that several units have in common.
fn merged(findings: Vec<Finding>) -> Vec<Finding> {
    let mut by_key: BTreeMap<(String, Code, Option<u32>), Finding> = BTreeMap::new();
    for finding in findings {
        let key = (finding.address.clone(), finding.code, finding.place.map(|place| place.start));
        match by_key.get_mut(&key) {
            Some(known) => known.needed_by.extend(finding.needed_by),
            None => {
                by_key.insert(key, finding);
            }
        }
    }
    let mut findings: Vec<Finding> = by_key.into_values().collect();
    for finding in &mut findings {
        finding.needed_by.sort_unstable();
        finding.needed_by.dedup();
    }
    findings
}
