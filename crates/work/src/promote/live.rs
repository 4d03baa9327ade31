//! Values as the outlets of the stage below have them.

use cledger_core::address::Address;
use cledger_core::cipher::secret_of;
use cledger_core::drift::{Drifted, FileDrift, NameDrift};
use cledger_core::model::{Ledger, StageId, Subject};
use cledger_core::name::Name;
use cledger_store::daybook::{Content, Stored};
use zeroize::Zeroizing;

use crate::deliver::recorded::Planner;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::bring::Bringer;
use crate::reality::standing::State;
use crate::trouble::Trouble;

/// Puts what a unit's outlets have in place of what was delivered. Where one of them cannot be looked at,
/// nothing moves.
pub(super) fn overlay(
    opened: &Opened,
    planner: &Planner<'_, '_>,
    around: &Around<'_>,
    (subject, below): (Subject, StageId),
    content: &mut Content,
) -> Result<(), Trouble> {
    let ledger = planner.resolver.ledger();
    let bringer = Bringer { opened, resolver: planner.resolver, around };
    let looked = bringer.look(subject, below)?;
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
    let text = there.map(|held| Zeroizing::new(held.expose().to_text()));
    let value = text.and_then(|text| secret_of(&text, declaration.this_type));
    match value {
        Some(value) => {
            let json = Zeroizing::new(value.expose().to_json().to_string());
            let secret = declaration.secret || there.is_none_or(cledger_core::value::Held::is_secret);
            content.values.insert(name, Stored::new(&json, secret));
        }
        None if drifted.what == NameDrift::MissingThere => drop(content.values.remove(&name)),
        None => {}
    }
}
