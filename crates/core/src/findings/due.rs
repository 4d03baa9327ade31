//! `due`: a field that the contract gained since the last delivery to a stage. It has no value there yet,
//! which is an error for the next delivery, and none for what runs today.

use super::code::{Code, Severity};
use super::standing::{Report, standing_of};
use crate::address::{Address, Owner};
use crate::model::Ledger;
use crate::name::Name;

/// Turns missing values into ones that are due, where `gained` says of a unit or instance, a stage and a
/// field (`ENTRY[.FIELD]`) that the last delivery did without it. What is missing in a shared entry is due
/// if that holds for every unit that needs it.
pub fn mark_due(report: &mut Report, ledger: &Ledger, mut gained: impl FnMut(&str, &str, &str) -> bool) {
    let severity = ledger.judging.severities.get(&Code::Due).copied().unwrap_or(Severity::Warning);
    for finding in report.findings.iter_mut().filter(|finding| finding.code == Code::MissingValue) {
        let Ok(Address { owner: Some(owner), entry: Some(entry), field, .. }) =
            Address::parse(&finding.address)
        else {
            continue;
        };
        let Some(stage) = finding.stage.clone() else { continue };
        let name = field.as_ref().map_or_else(|| entry.to_string(), |field| format!("{entry}.{field}"));
        let units: Vec<String> = match &owner {
            Owner::Unit(..) => vec![owner.to_string()],
            Owner::Shared => {
                finding.needed_by.iter().map(|&unit| ledger.unit(unit).name.to_string()).collect()
            }
        };
        if units.is_empty() || !units.iter().all(|unit| gained(unit, &stage, &name)) {
            continue;
        }
        let before = std::mem::replace(&mut finding.severity, severity);
        finding.code = Code::Due;
        finding.message.push_str("; the next delivery needs one, the last did without");
        let unit = finding.unit.into_iter().chain(finding.needed_by.iter().copied());
        let position = Name::parse(&stage).ok().and_then(|stage| ledger.stage_id(stage.as_str()));
        for unit in unit {
            let standing = standing_of(&mut report.standings, unit);
            if let (Some(standing), Some(stage)) = (standing, position) {
                standing.stages[usize::from(stage.0)].recount(before, severity);
            }
        }
    }
}
