//! Going through a ledger for all findings.

use std::collections::{BTreeMap, BTreeSet};

use jiff::civil::Date;
use rayon::prelude::*;
use rustc_hash::FxHashSet;

use super::bounds::Bounds;
use super::broken_files::not_judged;
use super::checking::Checking;
use super::code::Code;
use super::finding::Finding;
use super::standing::{Report, UnitStanding};
use super::{
    aligned, broken_files, certificates, defaults, distinct, effective, expiry, follows_secret,
    idle_patterns, in_no_output, names, other_stage, outputs, probes, rules, stages, tables, values, waivers,
};
use crate::address::Pattern;
use crate::model::{Class, StageId, UnitId};
use crate::resolve::{Resolver, Session};

/// Checks all of a ledger.
pub(super) fn whole(resolver: &Resolver<'_>, today: Option<Date>) -> Report {
    bounded(resolver, None, (None, None), today)
}

/// Checks these units, with what is shared and what shows only beside all others. `today` is the day from which last days
/// are counted; without it, none is over. Where `stages` says in which values can be otherwise than somebody knows them,
/// declarations are as known, and values of other stages are not looked at.
pub fn check_units(
    resolver: &Resolver<'_>,
    units: impl IntoIterator<Item = UnitId>,
    stages: Option<Vec<StageId>>,
    today: Option<Date>,
) -> Report {
    let are_settings = stages.is_some();
    // What belongs to development shows in all others, too.
    let is_development = |stage: &StageId| resolver.ledger().stage(*stage).class == Class::Development;
    let stages = stages.filter(|stages| !stages.iter().any(is_development));
    let stages = stages.map(|stages| stages.into_iter().collect());
    near(resolver, &units.into_iter().collect(), (stages, are_settings), today)
}

/// Checks these units in these stages, beside all that others have there. Which patterns and rules cover nothing is told
/// unless only settings are looked at; waivers that nothing needs are not.
pub(super) fn near(
    resolver: &Resolver<'_>,
    units: &FxHashSet<UnitId>,
    (stages, are_settings): (Option<FxHashSet<StageId>>, bool),
    today: Option<Date>,
) -> Report {
    let mut rules = resolver.ledger().judging.rules.iter();
    let between = rules.any(|rule| !are_settings || rule.compares_units()).then(|| {
        between_units(&Bounds::new(resolver, None, None, today).in_stages(stages.clone()), resolver)
    });
    let mut report = bounded(resolver, None, (Some(units), stages), today);
    if let Some(between) = between {
        report.findings.extend(between.findings);
        report.findings.sort_by(|one, other| (&one.address, one.code).cmp(&(&other.address, other.code)));
    }
    report
}

/// Checks what the ledger's rules demand of all of it, and nothing else. Last days are not counted.
pub fn check_rules(resolver: &Resolver<'_>) -> Report {
    let bounds = Bounds::new(resolver, None, None, None);
    let (seen, mut standings, mut findings, unreadable) =
        each_unit(&bounds, resolver, |checking| (BTreeSet::new(), rules::of_unit(checking)));
    rules::of_all(&bounds, seen, &mut standings, &mut findings);
    report(&bounds, standings, findings, unreadable)
}

/// Checks what the ledger's rules say of several units: what is to be unique, and rules that cover nothing.
fn between_units(bounds: &Bounds<'_>, resolver: &Resolver<'_>) -> Report {
    let (seen, mut standings, mut findings, unreadable) =
        each_unit(bounds, resolver, |checking| (BTreeSet::new(), rules::seen_of_unit(checking)));
    rules::of_all(bounds, seen, &mut standings, &mut findings);
    report(bounds, standings, findings, unreadable)
}

/// Checks which patterns of `ledger.toml` cover nothing, and nothing else.
pub fn check_patterns(resolver: &Resolver<'_>) -> Report {
    let bounds = Bounds::new(resolver, None, None, None);
    let mut findings = Vec::new();
    idle_patterns::all(&bounds, &mut findings);
    report(&bounds, Vec::new(), findings, BTreeSet::new())
}

pub(super) fn bounded(
    resolver: &Resolver<'_>,
    pattern: Option<&Pattern>,
    (units, stages): (Option<&FxHashSet<UnitId>>, Option<FxHashSet<StageId>>),
    today: Option<Date>,
) -> Report {
    let bounds = Bounds::new(resolver, pattern, units, today).in_stages(stages);
    let (seen, mut standings, of_units, unreadable) = each_unit(&bounds, resolver, of_unit);
    let mut findings = Vec::new();
    names::of_shared(&bounds, &mut findings);
    names::strangers(&bounds, &mut findings);
    values::of_shared(&bounds, resolver, &mut findings);
    stages::follows(&bounds, &mut findings);
    stages::unused(&bounds, &mut findings);
    idle_patterns::all(&bounds, &mut findings);
    tables::of_shared(&bounds, &mut findings);
    findings.extend(of_units);
    if units.is_none() {
        rules::of_all(&bounds, seen, &mut standings, &mut findings);
    }
    other_stage::all(&bounds, resolver, &mut standings, &mut findings);
    expiry::of_settings(&bounds, resolver, &mut standings, &mut findings);
    report(&bounds, standings, findings, unreadable)
}

/// What is found of each unit that is looked at, in order.
fn each_unit(
    bounds: &Bounds<'_>,
    resolver: &Resolver<'_>,
    of_unit: impl Fn(&mut Checking<'_, '_, '_>) -> (BTreeSet<String>, rules::Seen) + Sync,
) -> (Vec<rules::Seen>, Vec<UnitStanding>, Vec<Finding>, BTreeSet<String>) {
    let units: Vec<UnitId> = bounds.ledger.unit_ids().filter(|&unit| bounds.looks_at(unit)).collect();
    let one = |session: &mut Session<'_, '_>, &unit: &UnitId| {
        let mut checking = Checking::new(bounds, session, unit);
        let (unreadable, by_rules) = of_unit(&mut checking);
        let Checking { standing, findings, .. } = checking;
        OfUnit { standing, findings, unreadable, by_rules }
    };
    let checked: Vec<OfUnit> = units.par_iter().map_init(|| resolver.session(None), one).collect();
    let (mut seen, mut standings) = (Vec::with_capacity(checked.len()), Vec::with_capacity(checked.len()));
    let (mut findings, mut unreadable) = (Vec::new(), BTreeSet::new());
    for of_unit in checked {
        seen.push(of_unit.by_rules);
        standings.push(of_unit.standing);
        findings.extend(of_unit.findings);
        unreadable.extend(of_unit.unreadable);
    }
    (seen, standings, findings, unreadable)
}

/// The findings of a ledger as its waivers and its own word for severities leave them.
fn report(
    bounds: &Bounds<'_>,
    mut standings: Vec<UnitStanding>,
    findings: Vec<Finding>,
    unreadable: BTreeSet<String>,
) -> Report {
    let (ledger, today) = (bounds.ledger, bounds.today);
    let (mut findings, waived) = waivers::part(ledger, merged(findings), today);
    // What cannot be read may be what needs a waiver.
    if let Some(today) = today.filter(|_| bounds.is_whole() && ledger.broken.is_empty()) {
        waivers::judge(ledger, &waived, today, &mut findings);
    }
    for finding in &mut findings {
        finding.severity = bounds.severity(finding.code, finding.severity);
    }
    broken_files::mark(&mut standings, ledger);
    Report { findings, waived, standings, unreadable, not_judged: not_judged(ledger) }
}

/// What is found of one unit.
struct OfUnit {
    standing: UnitStanding,
    findings: Vec<Finding>,
    unreadable: BTreeSet<String>,
    by_rules: rules::Seen,
}

/// Looks for all of a unit; the sources that could not be read, and what the rules have seen.
fn of_unit(checking: &mut Checking<'_, '_, '_>) -> (BTreeSet<String>, rules::Seen) {
    names::of_unit(checking);
    values::of_unit(checking);
    outputs::of_unit(checking);
    probes::of_unit(checking);
    in_no_output::of_unit(checking);
    tables::of_unit(checking);
    expiry::of_unit(checking);
    defaults::of_unit(checking);
    distinct::of_unit(checking);
    follows_secret::of_unit(checking);
    aligned::of_unit(checking);
    certificates::of_unit(checking);
    let unreadable = effective::of_unit(checking);
    (unreadable, rules::of_unit(checking))
}

/// Sorts findings, and makes one of those that several units have in common.
fn merged(findings: Vec<Finding>) -> Vec<Finding> {
    type Key = (String, Code, Option<u32>, String);
    let mut by_key: BTreeMap<Key, Finding> = BTreeMap::new();
    for finding in findings {
        // Of these several may be said of one place.
        let is_one_of_several = matches!(finding.code, Code::Rule | Code::IdlePattern | Code::NotAdopted);
        let said = if is_one_of_several { finding.message.clone() } else { String::new() };
        let place = finding.place.map(|place| place.start);
        let key = (finding.address.clone(), finding.code, place, said);
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
