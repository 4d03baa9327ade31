//! `promote --live`: values as the outlets of the stage below have them.

use cledger_core::address::Address;
use cledger_core::cipher::secret_of;
use cledger_core::drift::{Drifted, FileDrift, NameDrift};
use cledger_core::model::{Ledger, StageId, Subject};
use cledger_core::name::Name;
use cledger_store::daybook::{Content, Stored};
use zeroize::Zeroizing;

use crate::commands::deliver::plan::{Planner, places_of};
use crate::conditions::day;
use crate::error::CliError;
use crate::output::console::Console;
use crate::reality::made::field_name;
use crate::reality::{Around, Seeing, State, look};

/// Puts what a unit's outlets have in place of what was delivered. Where one of them cannot be looked at,
/// nothing moves.
pub(super) fn overlay(
    planner: &Planner<'_, '_>,
    around: &Around<'_>,
    (subject, below): (Subject, StageId),
    content: &mut Content,
    console: &Console,
) -> Result<(), CliError> {
    let ledger = planner.resolver.ledger();
    let places = places_of(ledger, around, subject, below)?;
    let looked = look(places, planner.resolver, day(None)?, Seeing::Live(console))?;
    for unit in looked.iter().flat_map(|looked| &looked.units) {
        if let Some(reason) = unit.reason() {
            let message = format!("what `{}` has in `{}` is not known: {reason}", unit.owner, unit.stage);
            return Err(CliError::outside(message).help("leave --live out, or try again"));
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
    let name = field_name(&entry, declaration);
    let text = drifted.there.as_ref().map(|held| Zeroizing::new(held.expose().to_text()));
    let value = text.and_then(|text| secret_of(&text, declaration.this_type));
    match value {
        Some(value) => {
            let json = Zeroizing::new(value.expose().to_json().to_string());
            content.values.insert(name, Stored::new(&json, declaration.secret));
        }
        None if drifted.what == NameDrift::MissingThere => drop(content.values.remove(&name)),
        None => {}
    }
}
