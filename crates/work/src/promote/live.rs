//! Values as the outlets of the stage below have them.

use cledger_core::address::Address;
use cledger_core::cipher::secret_of;
use cledger_core::drift::{Drifted, FileDrift, NameDrift};
use cledger_core::kept::Kept;
use cledger_core::model::{Ledger, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::value::Held;
use cledger_store::daybook::{Content, Daybook};

use crate::deliver::recorded::Planner;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::look::{Seeing, look};
use crate::reality::places;
use crate::reality::standing::State;
use crate::reality::veiling;
use crate::trouble::Trouble;

/// Puts what a unit's outlets have in place of what was delivered. Where one of them cannot be looked at,
/// nothing moves.
pub(super) fn overlay(
    planner: &Planner<'_, '_>,
    (opened, around): (&Opened, &Around<'_>),
    book: &mut dyn Daybook,
    (subject, below): (Subject, StageId),
    content: &mut Content,
) -> Result<(), Trouble> {
    let ledger = planner.resolver.ledger();
    let mut places = places::of_owner(ledger, around, &ledger.owner(subject), below)?;
    for place in &mut places {
        place.subjects.push(subject);
    }
    let at = &opened.at;
    let mut looked = look(places, planner.resolver, at.today()?, Seeing::Live(&*at.telling))?;
    veiling::by_deliveries(book, looked.iter_mut().flat_map(|looked| &mut looked.units))?;
    for unit in looked.iter().flat_map(|looked| &looked.units) {
        if let Some(reason) = unit.reason() {
            let message = format!("what `{}` has in `{}` is not known: {reason}", unit.owner, unit.stage);
            return Err(Trouble::outside(message).help("leave --live out, or try again"));
        }
        let State::There(files) = &unit.state else { continue };
        for (_, drift) in files {
            let FileDrift::Drifted(names) = drift else { continue };
            for drifted in names {
                take(ledger, subject, drifted, content);
            }
        }
    }
    Ok(())
}

fn take(ledger: &Ledger, subject: Subject, drifted: &Drifted, content: &mut Content) {
    let address = drifted.address.as_deref().and_then(|text| Address::parse(text).ok());
    let Some((entry, field)) = address.and_then(|address| Some((address.entry?, address.field))) else {
        return;
    };
    let Ok(slot) = ledger.find_slot(subject, entry.as_str(), field.as_ref().map(Name::as_str)) else {
        return;
    };
    let declaration = ledger.field(subject, slot).1;
    let name = ledger.field_name(subject, slot);
    let there = drifted.there.as_ref();
    let value = there.and_then(|there| {
        let value = secret_of(&there.expose().to_secret_text(), declaration.this_type)?;
        Some(Held::new(value.expose().clone(), there.is_secret()))
    });
    match value {
        Some(value) => drop(content.values.insert(name, Kept::of_value(&value))),
        None if drifted.what == NameDrift::MissingThere => drop(content.values.remove(&name)),
        None => {}
    }
}
