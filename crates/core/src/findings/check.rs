//! Going through a ledger for all findings.

use std::collections::{BTreeMap, BTreeSet};

use jiff::civil::Date;
use rayon::prelude::*;

use super::{Code, Finding, Severity, certificates, expiry, names, outputs, stages, tables, values};
use crate::address::{Owner, Pattern};
use crate::model::{Ledger, SharedId, StageId, UnitId};
use crate::name::Name;
use crate::resolve::Resolver;

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
    pub(super) fn count(&mut self, severity: Severity) {
        match severity {
            Severity::Error => self.errors += 1,
            Severity::Warning => self.warnings += 1,
        }
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

/// What a check comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// All findings, by address and code.
    pub findings: Vec<Finding>,
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

    /// Whether a field that is written or seen under this owner is covered.
    pub(super) fn covers(&self, owner: &Owner, entry: &str, field: Option<&str>) -> bool {
        let owner = match owner {
            Owner::Shared => self.covers_owner("shared", None),
            Owner::Unit(unit, instance) => {
                self.covers_owner(unit.as_str(), instance.as_ref().map(Name::as_str))
            }
        };
        owner && self.covers_field(entry, field)
    }

    pub(super) fn covers_field(&self, entry: &str, field: Option<&str>) -> bool {
        self.pattern.is_none_or(|pattern| pattern.covers_field(entry, field))
    }

    pub(super) fn covers_stage(&self, stage: StageId) -> bool {
        let name = self.ledger.stage(stage).name.as_str();
        self.pattern.is_none_or(|pattern| pattern.covers_stage(name))
    }

    /// Whether a layer is covered by its own name or by that of a stage in which it counts.
    pub(super) fn covers_layer(&self, resolver: &Resolver<'_>, layer: crate::model::LayerId) -> bool {
        let name = self.ledger.layer_name(layer).as_str();
        self.pattern.is_none_or(|pattern| {
            pattern.covers_stage(name)
                || self.ledger.stage_ids().any(|stage| {
                    self.covers_stage(stage) && resolver.chain(stage).iter().any(|l| l.layer == layer)
                })
        })
    }
}

/// Checks everything that the pattern covers, or everything. `today` is the day from which last days
/// are counted; without it, none is over.
pub fn check(resolver: &Resolver<'_>, pattern: Option<&Pattern>, today: Option<Date>) -> Report {
    let ledger = resolver.ledger();
    let bounds = Bounds { ledger, pattern };
    let units: Vec<UnitId> = ledger.unit_ids().filter(|&unit| bounds.looks_at(unit)).collect();
    let checked: Vec<(UnitStanding, Vec<Finding>, BTreeSet<String>)> = units
        .par_iter()
        .map_init(
            || resolver.session(None),
            |session, &unit| {
                session.move_to(unit);
                let mut standing = UnitStanding { unit, stages: standings(ledger, unit) };
                let mut findings = Vec::new();
                names::of_unit(&bounds, resolver, unit, &mut standing, &mut findings);
                values::of_unit(&bounds, resolver, unit, &mut standing, &mut findings);
                outputs::of_unit(&bounds, unit, &mut findings);
                tables::of_unit(&bounds, resolver, unit, &mut standing, &mut findings);
                if let Some(today) = today {
                    expiry::of_unit(&bounds, session, unit, today, &mut standing, &mut findings);
                }
                certificates::of_unit(&bounds, session, unit, &mut standing, &mut findings);
                let mut unreadable = BTreeSet::new();
                let (standing_of, found) = (&mut standing, &mut findings);
                super::effective::of_unit(&bounds, session, unit, standing_of, found, &mut unreadable);
                (standing, findings, unreadable)
            },
        )
        .collect();
    let mut findings = Vec::new();
    names::of_shared(&bounds, resolver, &mut findings);
    names::strangers(&bounds, resolver, &mut findings);
    values::of_shared(&bounds, resolver, &mut findings);
    stages::follows(&bounds, &mut findings);
    stages::unused(&bounds, &mut findings);
    tables::of_shared(&bounds, resolver, &mut findings);
    let (mut standings, mut unreadable) = (Vec::with_capacity(checked.len()), BTreeSet::new());
    for (standing, of_unit, not_judged) in checked {
        standings.push(standing);
        findings.extend(of_unit);
        unreadable.extend(not_judged);
    }
    if let Some(today) = today {
        expiry::of_settings(&bounds, resolver, today, &mut standings, &mut findings);
    }
    Report { findings: merged(findings), standings, unreadable }
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
