//! Patterns on the command line: one that covers nothing is a mistake.

use cledger_core::address::{Address, Owner, Pattern};
use cledger_core::model::{Idle, Ledger};
use cledger_core::name::nearest;

use crate::trouble::Trouble;

/// Refuses a pattern that covers nothing of the ledger.
pub(crate) fn refuse_idle(ledger: &Ledger, pattern: &Pattern) -> Result<(), Trouble> {
    let Some(idle) = ledger.idle(pattern) else { return Ok(()) };
    let address = Address::parse(&pattern.to_string()).ok();
    let owner = address.as_ref().and_then(|address| address.owner.as_ref());
    let names = ledger.names_for(idle, owner);
    let (what, written, list) = match idle {
        Idle::Stages => {
            ("no stage and no group", address.as_ref().and_then(|it| it.stage.as_ref()), "stages")
        }
        Idle::Owners => {
            let unit = owner.map(|owner| owner.names().0);
            let near = unit.and_then(|unit| nearest(unit, names.iter().map(String::as_str)));
            return Err(refusal(pattern, "no unit", near, "units"));
        }
        Idle::Fields => ("no field", address.as_ref().and_then(|it| it.entry.as_ref()), "units"),
        Idle::Belonging => {
            let message = format!("`{pattern}` covers no unit in a stage where it belongs");
            return Err(Trouble::usage(message).help("`cledger list units` shows where each belongs"));
        }
    };
    if let (Idle::Fields, Some(Owner::Unit(unit, _))) = (idle, owner) {
        let near = written.and_then(|name| nearest(name.as_str(), names.iter().map(String::as_str)));
        let help = near.map_or_else(
            || format!("`cledger show {unit}` lists its entries"),
            |near| format!("the nearest name is `{near}`"),
        );
        return Err(Trouble::usage(format!("`{pattern}` covers no field of the ledger")).help(help));
    }
    let near = written.and_then(|name| nearest(name.as_str(), names.iter().map(String::as_str)));
    Err(refusal(pattern, what, near, list))
}

fn refusal(pattern: &Pattern, what: &str, near: Option<&str>, list: &str) -> Trouble {
    let help = near.map_or_else(
        || format!("`cledger list {list}` shows the names"),
        |near| format!("the nearest name is `{near}`"),
    );
    Trouble::usage(format!("`{pattern}` covers {what} of the ledger")).help(help)
}
