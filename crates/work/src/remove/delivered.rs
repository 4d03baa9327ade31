//! What is still delivered of something that is to go.

use cledger_core::model::Ledger;
use cledger_store::Named;
use cledger_store::daybook::{Meta, Wanted};

use crate::daybook;
use crate::opened::Opened;
use crate::trouble::Trouble;

/// The last deliveries of these things that nobody has withdrawn.
pub(crate) fn of(opened: &Opened, things: &[Named]) -> Result<Vec<String>, Trouble> {
    if !things.iter().any(is_delivered) {
        return Ok(Vec::new());
    }
    let Some(mut book) = daybook::reading(opened)? else { return Ok(Vec::new()) };
    let entries = book.entries(&Wanted::last_of_all(), false)?;
    let is_of = |meta: &Meta| things.iter().any(|thing| is_of(&opened.ledger, thing, meta));
    let there = entries.iter().map(|entry| &entry.meta).filter(|meta| meta.kind.is_brought() && is_of(meta));
    Ok(there.map(|meta| format!("{}@{}:{}", meta.unit, meta.stage, meta.number)).collect())
}

/// Whether something can be delivered at all.
fn is_delivered(thing: &Named) -> bool {
    matches!(thing, Named::Unit(_) | Named::Instance(..) | Named::Stage(_) | Named::Outlet(_))
}

fn is_of(ledger: &Ledger, thing: &Named, meta: &Meta) -> bool {
    let (unit, instance) = match meta.unit.split_once('+') {
        Some((unit, instance)) => (unit, Some(instance)),
        None => (meta.unit.as_str(), None),
    };
    match thing {
        Named::Unit(name) => {
            let known = ledger.unit_id(name.as_str()).map(|id| ledger.unit(id));
            let had =
                known.is_some_and(|unit_now| unit_now.formerly.iter().any(|it| it.name.as_str() == unit));
            unit == name.as_str() || had
        }
        Named::Instance(of, name) => unit == of.as_str() && instance == Some(name.as_str()),
        Named::Stage(name) => ledger.stage_name_now(&meta.stage) == name.as_str(),
        Named::Outlet(name) => meta.outlets.iter().any(|answer| answer.outlet == name.as_str()),
        _ => false,
    }
}
