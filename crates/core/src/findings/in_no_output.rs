//! `in-no-output`: what a unit declares or uses, and none of its files holds.

use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::Finding;
use crate::address::{Address, Owner};
use crate::model::{Declaration, Entry, EntryRef, Ledger, Output, SlotEntry, Subject, Unit, UnitId};

pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, id) = (checking.ledger(), checking.unit);
    let unit = ledger.unit(id);
    let owner = Owner::Unit(unit.name.clone(), None);
    let is_open = |output: &Output| {
        output.only.is_empty() && output.except.is_empty() && output.table.is_none() && takes_all(output)
    };
    if unit.outputs.is_empty() || unit.outputs.iter().any(is_open) {
        return;
    }
    let contents = contents(ledger, id);
    let subject = Subject::Unit(id, None);
    for &SlotEntry { entry: of, .. } in &unit.slots.entries {
        let entry = ledger.entry(subject, of);
        let reaches = |field: &Declaration| {
            let mut all = unit.outputs.iter().chain(contents.iter().copied());
            all.any(|output| output.secrets.takes(field.secret) && output.holds(unit, entry, field))
        };
        if entry.fields.is_empty()
            || entry.fields.iter().any(reaches)
            || !checking.bounds.covers(&owner, entry.name.as_str(), None)
            || checking.bounds.mentions.has(ledger, id, (entry, of))
        {
            continue;
        }
        checking.findings.push(finding(unit, id, entry, of));
    }
}

fn takes_all(output: &Output) -> bool {
    output.secrets.takes(true) && output.secrets.takes(false)
}

/// What outlets without files hold of a unit.
fn contents(ledger: &Ledger, id: UnitId) -> Vec<&Output> {
    let name = ledger.unit(id).name.as_str();
    let takes = |outlet: &&crate::model::Outlet| {
        ledger
            .stage_ids()
            .any(|stage| ledger.unit(id).belongs_to(stage, None) && outlet.takes(stage, (name, None)))
    };
    ledger.outlets.iter().filter(takes).filter_map(|outlet| outlet.kind.output()).collect()
}

fn finding(unit: &Unit, id: UnitId, entry: &Entry, of: EntryRef) -> Finding {
    let owner = Owner::Unit(unit.name.clone(), None);
    let address = Address::of_field(owner, &entry.name, None, None).to_string();
    let own = matches!(of, EntryRef::Own(_));
    Finding {
        code: Code::InNoOutput,
        severity: Severity::Warning,
        subject: address.clone(),
        stage: None,
        unit: Some(id),
        message: format!("`{}` is in no output of `{}`, and nothing refers to it", entry.name, unit.name),
        place: Some(if own { entry.place } else { unit.place }),
        hides_value: false,
        help: format!(
            "take it out of `except` of an [[output]], or into `only`; or {}",
            if own {
                format!("cledger remove {address}")
            } else {
                format!("take `{}` out of `uses`", entry.name)
            }
        ),
        address,
        because_of: None,
        needed_by: Vec::new(),
        rule: None,
    }
}
