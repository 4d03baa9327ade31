//! `follows-lower-class` and `unused-shared`: what the ledger as a whole declares.

use super::bounds::Bounds;
use super::code::{Code, Severity};
use super::finding::Finding;
use crate::address::{Address, Owner};
use crate::model::{Ledger, SharedId};
use crate::source::Place;

/// Stages that take settings from one of a lower class.
pub(super) fn follows(bounds: &Bounds<'_>, findings: &mut Vec<Finding>) {
    let ledger = bounds.ledger;
    for id in ledger.stage_ids().filter(|&id| bounds.covers_stage(id) && bounds.covers_owner("shared", None))
    {
        let stage = ledger.stage(id);
        for follow in &stage.follows {
            let followed = ledger.stage(follow.stage);
            if followed.class >= stage.class {
                continue;
            }
            let message = format!(
                "`{}` (class {}) follows `{}` (class {}), and gets settings that are made for that",
                stage.name,
                stage.class.name(),
                followed.name,
                followed.class.name()
            );
            let help = "let it follow a stage of its own class, or move what they share into a group";
            let address = Address::of_owner(None, Some(&stage.name));
            findings.push(finding(&address, Code::FollowsLowerClass, message, follow.place, help));
        }
    }
}

/// Shared entries that no unit uses, nor what units use is made of.
pub(super) fn unused(bounds: &Bounds<'_>, findings: &mut Vec<Finding>) {
    let ledger: &Ledger = bounds.ledger;
    if ledger.broken.misses_units() {
        return;
    }
    let used = ledger.used_shared();
    for (position, entry) in (0_u16..).zip(&ledger.shared) {
        let covered =
            bounds.covers_shared(SharedId(position)) && bounds.covers_field(entry.name.as_str(), None);
        if used.contains(&SharedId(position)) || !covered {
            continue;
        }
        let message = format!("no unit uses the shared entry `{}`", entry.name);
        let help = format!("add it to `uses` of a unit, or: cledger remove shared/{}", entry.name);
        let address = Address::of_field(Owner::Shared, &entry.name, None, None);
        findings.push(finding(&address, Code::UnusedShared, message, entry.place, &help));
    }
}

fn finding(address: &Address, code: Code, message: String, place: Place, help: &str) -> Finding {
    Finding {
        code,
        severity: Severity::Warning,
        address: address.to_string(),
        subject: Address { stage: None, ..address.clone() }.to_string(),
        stage: address.stage.as_ref().map(ToString::to_string),
        unit: None,
        message,
        place: Some(place),
        hides_value: false,
        help: help.to_owned(),
        because_of: None,
        needed_by: Vec::new(),
        rule: None,
    }
}
