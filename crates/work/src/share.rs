//! A unit's entry becomes one that several units use.

use cledger_core::address::{Address, Owner};
use cledger_core::effects::{Effect, Seen};
use cledger_core::model::{Subject, UnitId};
use cledger_core::name::Name;
use cledger_store::share as store_share;

use crate::change::{Changing, NO_CHANGE};
use crate::meant::{fields_of, is_shared};
use crate::touched::{TouchedFile, touched};
use crate::trouble::Trouble;

/// What becomes of an entry that is shared.
#[derive(Debug)]
pub struct Shared {
    /// Its address so far.
    pub from: String,
    /// Its new address.
    pub to: String,
    /// The files that change.
    pub files: Vec<TouchedFile>,
    /// Whether they are written.
    pub written: bool,
}

/// Makes a unit's entry one that these other units use, too. Refused where a value would change.
pub fn share(changing: &Changing, address: &Address, with: &[Name], write: bool) -> Result<Shared, Trouble> {
    let (opened, ledger) = (&changing.opened, changing.ledger());
    let (Some(Owner::Unit(unit, None)), Some(entry), None, None) =
        (&address.owner, &address.entry, &address.field, &address.stage)
    else {
        return Err(Trouble::usage(format!("`{address}` names no entry of a unit")).help("write UNIT/ENTRY"));
    };
    let id = opened.unit_id(unit)?;
    let subject = Subject::Unit(id, None);
    let slots = fields_of(ledger, subject, address)?;
    let is_shared = slots.first().is_some_and(|&slot| is_shared(ledger, subject, slot));
    if is_shared || ledger.shared_id(entry.as_str()).is_some() {
        let message = format!("there is a shared entry `{entry}` already");
        return Err(
            Trouble::usage(message).help("add it to `uses` of the units that need it, or rename this one")
        );
    }
    let others: Vec<UnitId> = with.iter().map(|name| opened.unit_id(name)).collect::<Result<_, _>>()?;
    let mut changed = store_share(changing.disk(), ledger, id, entry, &others)?;
    changing.resealed(ledger, &NO_CHANGE, &mut changed)?;
    let planned = changing.plan_texts(changed)?;
    if let Some(effect) = planned.effects.iter().find(|effect| effect.before != Seen::NotThere) {
        let message = format!("`{address}` cannot be shared as it is: {} would change", effect.address);
        return Err(Trouble::refused(message).help(reason(effect)));
    }
    if write {
        changing.write(&planned)?;
    }
    let files = touched(ledger, &planned.changed);
    Ok(Shared { from: address.to_string(), to: format!("shared/{entry}"), files, written: write })
}

/// Why a value stands in the way.
fn reason(effect: &Effect) -> String {
    match &effect.after {
        Seen::Problem(codes) if codes.contains(&"reference-unknown") => {
            "shared text can name shared entries only: give that field a value without such a reference"
                .to_owned()
        }
        Seen::NotThere => "the units declare it differently: let their declarations agree first".to_owned(),
        _ => {
            "the units differ in it: leave that unit out of --with, or let the values agree first".to_owned()
        }
    }
}
