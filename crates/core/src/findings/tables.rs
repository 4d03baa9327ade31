//! `table-row`: rows of lookup tables that do not count.

use super::bounds::Bounds;
use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::Finding;
use crate::address::{Address, Owner};
use crate::model::{Ledger, StageId, Subject, TableFault, UnitId};
use crate::name::Name;
use crate::resolve::{FieldId, Resolver, Session};

/// What is wrong with the tables of a unit and with the shared ones that it uses.
pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    for fault in ledger.table_faults.iter().filter(|fault| concerns(ledger, fault, id)) {
        let finding = finding(ledger, fault);
        let severity = bounds.counts(&finding);
        for stage in ledger.stage_ids().filter(|&stage| ledger.unit(id).belongs_to(stage, None)) {
            if counts_in(checking.resolver(), fault, stage) {
                checking.standing.stages[usize::from(stage.0)].count(severity);
            }
        }
        if is_covered(bounds, fault) {
            checking.findings.push(finding);
        }
    }
}

/// What is wrong with shared tables, whether or not they are used.
pub(super) fn of_shared(bounds: &Bounds<'_>, findings: &mut Vec<Finding>) {
    let faults = bounds.ledger.table_faults.iter().filter(|fault| fault.owner == Owner::Shared);
    let covered = faults.filter(|fault| is_covered(bounds, fault));
    findings.extend(covered.map(|fault| finding(bounds.ledger, fault)));
}

/// What is wrong with the rows that count for one table in one stage.
pub(crate) fn of_field(session: &Session<'_, '_>, field: FieldId) -> Vec<Finding> {
    let (ledger, resolver) = (session.ledger(), session.resolver);
    let Subject::Unit(unit, instance) = field.subject else { return Vec::new() };
    let instance = instance.map(|id| &ledger.unit(unit).instances[usize::from(id.0)].name);
    let (entry, _) = ledger.field(field.subject, field.slot);
    let of_others = |fault: &TableFault| match &fault.owner {
        Owner::Unit(_, Some(other)) => instance != Some(other),
        Owner::Unit(_, None) | Owner::Shared => false,
    };
    let here = ledger.table_faults.iter().filter(|fault| {
        fault.entry == entry.name
            && concerns(ledger, fault, unit)
            && !of_others(fault)
            && counts_in(resolver, fault, field.stage)
    });
    here.map(|fault| finding(ledger, fault)).collect()
}

/// Whether a table is the unit's own, or a shared one that it uses.
fn concerns(ledger: &Ledger, fault: &TableFault, id: UnitId) -> bool {
    let unit = ledger.unit(id);
    match &fault.owner {
        Owner::Unit(name, _) => unit.name == *name,
        Owner::Shared => ledger.shared_id(fault.entry.as_str()).is_some_and(|id| unit.uses.contains(&id)),
    }
}

fn counts_in(resolver: &Resolver<'_>, fault: &TableFault, stage: StageId) -> bool {
    fault.layer.is_none_or(|layer| resolver.chain(stage).iter().any(|link| link.layer == layer))
}

fn is_covered(bounds: &Bounds<'_>, fault: &TableFault) -> bool {
    let owner = match &fault.owner {
        Owner::Shared => bounds
            .ledger
            .shared_id(fault.entry.as_str())
            .map_or(bounds.covers_owner("shared", None), |id| bounds.covers_shared(id)),
        Owner::Unit(unit, instance) => {
            bounds.covers_owner(unit.as_str(), instance.as_ref().map(Name::as_str))
        }
    };
    owner
        && bounds.covers_field(fault.entry.as_str(), None)
        && fault.layer.is_none_or(|layer| bounds.covers_layer(layer))
}

fn finding(ledger: &Ledger, fault: &TableFault) -> Finding {
    let stage = match fault.layer {
        Some(layer) => Some(ledger.layer_name(layer).clone()),
        None => Name::parse("default").ok(),
    };
    let address = Address::of_field(fault.owner.clone(), &fault.entry, None, stage.as_ref());
    let subject = Address { stage: None, ..address.clone() };
    Finding {
        code: Code::TableRow,
        severity: Severity::Error,
        address: address.to_string(),
        subject: subject.to_string(),
        stage: stage.map(|stage| stage.to_string()),
        unit: match &fault.owner {
            Owner::Unit(unit, _) => ledger.unit_id(unit.as_str()),
            Owner::Shared => None,
        },
        message: fault.message.clone(),
        place: Some(fault.place),
        hides_value: false,
        help: fault.help.clone(),
        because_of: None,
        needed_by: Vec::new(),
        rule: None,
    }
}
