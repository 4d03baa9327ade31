//! `idle-pattern` of a contract: something is expected of a service in no stage to which the unit belongs, so that nobody
//! ever tries it.

use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::Finding;
use crate::model::Expectation;

pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    let unit = ledger.unit(id);
    if !bounds.covers_owner(unit.name.as_str(), None) {
        return;
    }
    let is_tried = |it: &Expectation| {
        let mut stages = ledger.stage_ids().filter(|&stage| it.is_in(stage));
        stages.any(|stage| unit.belongs_to(stage, None))
    };
    for idle in unit.expectations.iter().filter(|it| it.stages.is_some() && !is_tried(it)) {
        let said = idle.stages.iter().flat_map(|stages| &stages.said);
        let said: Vec<String> = said.map(|pattern| format!("`{pattern}`")).collect();
        let said = if said.is_empty() { "nothing".to_owned() } else { said.join(", ") };
        let message = format!(
            "{said} in `stages` of probe `{}` covers no stage of `{}`, and it is never tried",
            idle.name, unit.name
        );
        checking.findings.push(Finding {
            code: Code::IdlePattern,
            severity: Severity::Warning,
            address: unit.name.to_string(),
            subject: unit.name.to_string(),
            stage: None,
            unit: Some(id),
            message,
            place: Some(idle.place),
            hides_value: false,
            help: "mend the pattern, or take the probe out".to_owned(),
            because_of: None,
            needed_by: Vec::new(),
            rule: None,
        });
    }
}
