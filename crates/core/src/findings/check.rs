//! What is checked: all of a ledger, or what concerns what a pattern names.

use std::collections::BTreeSet;

use jiff::civil::Date;

use super::bounds::Looked;
use super::broken_files;
use super::judged::judge;
use super::standing::Report;
use super::through::bounded;
use crate::address::Pattern;
use crate::model::{Ledger, StageId, Subject};
use crate::resolve::Resolver;

/// Whether a pattern names whole units, and nothing else.
pub fn is_of_units(pattern: &Pattern) -> bool {
    pattern.has_owner() && !pattern.has_entry() && !pattern.covers_owner("shared", None)
}

/// Checks everything that these patterns cover, or everything where there is none; what concerns them, where they name
/// [whole units](is_of_units): so do several. Files that cannot be read are told in any case.
/// `today` is the day from which last days are counted; without it, none is over.
pub fn check(resolver: &Resolver<'_>, patterns: &[Pattern], today: Option<Date>) -> Report {
    let ledger = resolver.ledger();
    let mut report = match patterns {
        [] => bounded(resolver, Looked::default(), today),
        [one] if !is_of_units(one) => {
            bounded(resolver, Looked { pattern: Some(one), ..Looked::default() }, today)
        }
        units => {
            let covered: BTreeSet<_> = units.iter().flat_map(|pattern| covered(ledger, pattern)).collect();
            judge(resolver, &covered.into_iter().collect::<Vec<_>>(), today)
        }
    };
    // Whatever is checked: they may say something about it.
    report.findings.splice(0..0, broken_files::all(ledger));
    report
}

/// The units and instances that a pattern covers, in all stages that it covers.
fn covered(ledger: &Ledger, pattern: &Pattern) -> Vec<(Subject, StageId)> {
    let subjects = ledger.unit_ids().flat_map(|id| ledger.subjects_of(id));
    let is_covered = |subject: &Subject| {
        let owner = ledger.owner(*subject);
        let (unit, instance) = owner.names();
        pattern.covers_owner(unit, instance)
    };
    let subjects: Vec<Subject> = subjects.filter(is_covered).collect();
    let stages = ledger.stage_ids().filter(|&id| pattern.covers_stage(ledger.stage(id).name.as_str()));
    stages.flat_map(|stage| subjects.iter().map(move |&subject| (subject, stage))).collect()
}
