//! How units stand, and what a check comes to.

use std::collections::BTreeSet;

use super::code::{Code, Severity};
use super::finding::Finding;
use crate::model::{LayerId, Ledger, UnitId};
use crate::resolve::{Link, Resolver};

/// How a unit stands in a stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Standing {
    /// Whether it belongs there at all.
    pub belongs: bool,
    /// How many of its fields have an error.
    pub errors: u32,
    /// How many have a warning.
    pub warnings: u32,
    /// Whether nothing is known of it, since a file cannot be read.
    pub is_broken: bool,
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

impl UnitStanding {
    /// A unit of which nothing is known yet but where it belongs.
    pub(super) fn new(ledger: &Ledger, unit: UnitId) -> Self {
        let belongs = ledger.unit(unit).belongs.iter();
        let stages = belongs.map(|&belongs| Standing { belongs, ..Standing::default() });
        Self { unit, stages: stages.collect() }
    }

    /// Counts a finding in every stage of the unit in which the layer counts.
    pub(super) fn count_in_layer(
        &mut self,
        resolver: &Resolver<'_>,
        layer: LayerId,
        severity: Option<Severity>,
    ) {
        for stage in resolver.ledger().stage_ids() {
            let here = &mut self.stages[usize::from(stage.0)];
            let own = |link: &Link<'_>| link.layer == layer && link.follows.is_empty();
            if here.belongs && resolver.chain(stage).iter().any(own) {
                here.count(severity);
            }
        }
    }
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
    /// What could not be judged, or not beside all that it concerns, since a file cannot be read.
    pub not_judged: Vec<Code>,
}

impl Report {
    /// How many findings are of this severity.
    pub fn count(&self, severity: Severity) -> usize {
        self.findings.iter().filter(|finding| finding.severity == severity).count()
    }
}
