//! Going through a ledger for all findings.

use std::collections::BTreeSet;

use jiff::civil::Date;
use rayon::prelude::*;
use rustc_hash::FxHashSet;

use super::bounds::{Bounds, Looked};
use super::broken_files::not_judged;
use super::checking::Checking;
use super::code::Code;
use super::finding::Finding;
use super::standing::{Report, UnitStanding};
use super::{
    aligned, broken_files, certificates, defaults, distinct, effective, expiry, follows_secret,
    idle_patterns, in_no_output, names, other_stage, outputs, probes, rules, stages, tables, values, waivers,
};
use crate::model::{Class, Ledger, StageId, UNITS_AT_ONCE, UnitId};
use crate::name::Name;
use crate::resolve::{Resolver, Session};

/// Checks all of a ledger.
pub(super) fn whole(resolver: &Resolver<'_>, today: Option<Date>) -> Report {
    bounded(resolver, Looked::default(), today)
}

/// Checks these units, with what is shared and what shows only beside all others. `today` is the day from which last days
/// are counted; without it, none is over.
pub fn check_units(
    resolver: &Resolver<'_>,
    units: impl IntoIterator<Item = UnitId>,
    today: Option<Date>,
) -> Report {
    near(resolver, &units.into_iter().collect(), Looked::default(), false, today)
}

/// What [`check_units`] finds in a ledger before and after a change, to tell what differs: what must be found alike in both
/// may be left out. Nothing but these units, shared entries and settings of these can be otherwise; where `stages` says
/// in which values can be, nothing but settings.
pub fn check_both(
    (before, after): (&Resolver<'_>, &Resolver<'_>),
    units: &BTreeSet<Name>,
    stages: Option<&BTreeSet<Name>>,
    today: Option<Date>,
) -> [Vec<Finding>; 2] {
    let but_hosts = other_stage::is_alike((before, after), units, stages);
    let is_untouched = |name: &&Name| {
        let unit =
            |ledger: &Ledger| ledger.unit_id(name.as_str()).map(|id| std::ptr::from_ref(ledger.unit(id)));
        let (one, other) = (unit(before.ledger()), unit(after.ledger()));
        one.is_some() && one == other
    };
    let untouched: Vec<&Name> = units.iter().filter(|_| stages.is_some()).filter(is_untouched).collect();
    let check = |resolver: &Resolver<'_>| {
        let ledger = resolver.ledger();
        let unit = |name: &Name| ledger.unit_id(name.as_str());
        let stage = |name: &Name| ledger.stage_id(name.as_str());
        let meant = stages.map(|stages| stages.iter().filter_map(stage).collect());
        let looked = Looked {
            stages: beside_development(resolver, meant),
            but_hosts,
            but_outputs: stages.is_some(),
            but_texts: untouched.iter().filter_map(|name| unit(name)).collect(),
            ..Looked::default()
        };
        near(resolver, &units.iter().filter_map(unit).collect(), looked, stages.is_some(), today).findings
    };
    [check(before), check(after)]
}

/// The stages in which values are looked at. What belongs to development shows in all others, too.
fn beside_development(resolver: &Resolver<'_>, stages: Option<Vec<StageId>>) -> Option<FxHashSet<StageId>> {
    let is_development = |stage: &StageId| resolver.ledger().stage(*stage).class == Class::Development;
    let stages = stages.filter(|stages| !stages.iter().any(is_development));
    stages.map(|stages| stages.into_iter().collect())
}

/// Checks these units, beside all that others have. Which patterns and rules cover nothing is told unless only settings
/// are looked at; waivers that nothing needs are not.
pub(super) fn near(
    resolver: &Resolver<'_>,
    units: &FxHashSet<UnitId>,
    looked: Looked<'_>,
    are_settings: bool,
    today: Option<Date>,
) -> Report {
    let mut rules = resolver.ledger().judging.rules.iter();
    let between = rules.any(|rule| !are_settings || rule.compares_units()).then(|| {
        let of_all = Looked { stages: looked.stages.clone(), ..Looked::default() };
        between_units(&Bounds::new(resolver, of_all, today), resolver)
    });
    let mut report = bounded(resolver, Looked { units: Some(units), ..looked }, today);
    if let Some(between) = between {
        report.findings.extend(between.findings);
        report.findings.sort_by(|one, other| (&one.address, one.code).cmp(&(&other.address, other.code)));
    }
    report
}

/// Checks what these rules demand of all of a ledger, and nothing else. Last days are not counted.
pub fn check_rules(resolver: &Resolver<'_>, rules: &BTreeSet<Name>) -> Report {
    let bounds = Bounds::new(resolver, Looked { rules: Some(rules), ..Looked::default() }, None);
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
    let bounds = Bounds::new(resolver, Looked::default(), None);
    let mut findings = Vec::new();
    idle_patterns::all(&bounds, &mut findings);
    report(&bounds, Vec::new(), findings, BTreeSet::new())
}

pub(super) fn bounded(resolver: &Resolver<'_>, looked: Looked<'_>, today: Option<Date>) -> Report {
    let bounds = Bounds::new(resolver, looked, today);
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
    if bounds.looked.units.is_none() {
        rules::of_all(&bounds, seen, &mut standings, &mut findings);
    }
    if !bounds.looked.but_hosts {
        other_stage::all(&bounds, resolver, &mut standings, &mut findings);
    }
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
    let units = units.par_iter().with_max_len(UNITS_AT_ONCE);
    let checked: Vec<OfUnit> = units.map_init(|| resolver.session(None), one).collect();
    let (mut seen, mut standings) = (Vec::with_capacity(checked.len()), Vec::with_capacity(checked.len()));
    let mut findings = Vec::with_capacity(checked.iter().map(|of_unit| of_unit.findings.len()).sum());
    let mut unreadable = BTreeSet::new();
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
    let looked = &checking.bounds.looked;
    let (but_outputs, but_texts) = (looked.but_outputs, looked.but_texts.contains(&checking.unit));
    if !but_texts {
        names::of_unit(checking);
        values::of_unit(checking);
    }
    if !but_outputs {
        outputs::of_unit(checking);
    }
    probes::of_unit(checking);
    in_no_output::of_unit(checking);
    tables::of_unit(checking);
    // Before the others that look at values: it finds the winners of all stages that are looked at.
    let unreadable = effective::of_unit(checking);
    expiry::of_unit(checking);
    defaults::of_unit(checking);
    distinct::of_unit(checking);
    follows_secret::of_unit(checking);
    aligned::of_unit(checking);
    certificates::of_unit(checking);
    (unreadable, rules::of_unit(checking))
}

/// Sorts findings, and makes one of those that several units have in common.
fn merged(mut findings: Vec<Finding>) -> Vec<Finding> {
    fn key(finding: &Finding) -> (&str, Code, Option<u32>, &str) {
        // Of these several may be said of one place.
        let is_one_of_several = matches!(finding.code, Code::Rule | Code::IdlePattern | Code::NotAdopted);
        let said = if is_one_of_several { finding.message.as_str() } else { "" };
        (&finding.address, finding.code, finding.place.map(|place| place.start), said)
    }
    findings.par_sort_by(|one, other| key(one).cmp(&key(other)));
    findings.dedup_by(|next, first| {
        let is_same = key(next) == key(first);
        if is_same {
            first.needed_by.append(&mut next.needed_by);
        }
        is_same
    });
    for finding in &mut findings {
        finding.needed_by.sort_unstable();
        finding.needed_by.dedup();
    }
    findings
}
