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
use crate::promote::fields::NotRead;
use crate::reality::around::Around;
use crate::reality::look::{Seeing, look};
use crate::reality::places;
use crate::reality::standing::State;
use crate::reality::veiling;
use crate::trouble::Trouble;

/// Puts what a unit's outlets have in place of what was delivered, and says what of it cannot be read: that stays as
/// it was delivered. Where one of them cannot be looked at, nothing moves.
pub(super) fn overlay<'l>(
    planner: &Planner<'_, 'l>,
    (opened, around): (&Opened, &Around<'l>),
    book: &mut dyn Daybook,
    (subject, below): (Subject, StageId),
    content: &mut Content,
) -> Result<Vec<NotRead>, Trouble> {
    let ledger = planner.resolver.ledger();
    let mut places = places::of_owner(ledger, around, &ledger.owner(subject), below)?;
    for place in &mut places {
        place.subjects.push(subject);
    }
    let at = &opened.at;
    let mut looked = look(places, planner.resolver, at.today()?, Seeing::Live(&*at.telling))?;
    veiling::by_deliveries(book, looked.iter_mut().flat_map(|looked| &mut looked.units))?;
    let mut not_read = Vec::new();
    for unit in looked.iter().flat_map(|looked| &looked.units) {
        if let Some(reason) = unit.reason() {
            let message = format!("what `{}` has in `{}` is not known: {reason}", unit.owner, unit.stage);
            return Err(Trouble::outside(message).help("leave --live out, or try again"));
        }
        let outlet = unit.outlet.as_ref().map(|(name, _)| name.as_str()).unwrap_or_default();
        let State::There(files) = &unit.state else {
            if matches!(unit.state, State::NothingRendered) {
                continue;
            }
            not_read
                .push(NotRead { what: format!("outlet {outlet}"), why: "nothing of it is there".to_owned() });
            continue;
        };
        for (path, drift) in files {
            let at = format!("{path} at outlet {outlet}");
            let why = match drift {
                FileDrift::Drifted(names) => {
                    let names = names.iter().filter_map(|drifted| take(ledger, subject, drifted, content));
                    not_read
                        .extend(names.map(|(name, why)| NotRead { what: format!("{name} in {at}"), why }));
                    continue;
                }
                FileDrift::TextDiffers { .. } => "it differs, and a template made it".to_owned(),
                FileDrift::Unreadable(reason) => reason.clone(),
                FileDrift::NotThere => "it is not there".to_owned(),
                FileDrift::AsLedger | FileDrift::LeftOver | FileDrift::Theirs => continue,
            };
            not_read.push(NotRead { what: at, why });
        }
    }
    Ok(not_read)
}

/// Takes one value over; gives the name and the reason where that cannot be.
fn take(
    ledger: &Ledger,
    subject: Subject,
    drifted: &Drifted,
    content: &mut Content,
) -> Option<(String, String)> {
    let not_read = |why: &str| Some((drifted.name.clone(), why.to_owned()));
    let address = drifted.address.as_deref().and_then(|text| Address::parse(text).ok());
    let slot = address.and_then(|address| {
        let field = address.field.as_ref().map(Name::as_str);
        ledger.find_slot(subject, address.entry?.as_str(), field).ok()
    });
    let Some(slot) = slot else { return not_read("the ledger knows no such name") };
    let declaration = ledger.field(subject, slot).1;
    let name = ledger.field_name(subject, slot);
    let there = drifted.there.as_ref();
    let value = there.and_then(|there| {
        let value = secret_of(&there.expose().to_secret_text(), declaration.this_type)?;
        Some(Held::new(value.expose().clone(), there.is_secret()))
    });
    match (value, drifted.what) {
        (Some(value), _) => drop(content.values.insert(name, Kept::of_value(&value))),
        (None, NameDrift::MissingThere) => drop(content.values.remove(&name)),
        (None, NameDrift::NoValueHere) if there.is_none() => {}
        (None, NameDrift::Unreadable) => return not_read("its value here cannot be read, to compare it"),
        (None, _) => return not_read(&format!("what is there is no {}", declaration.this_type.name())),
    }
    None
}
