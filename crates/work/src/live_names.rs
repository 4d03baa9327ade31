//! Names as people see them live, in files and tables, where an address is asked for: `ticket-desk/SEAT_HOLD@test`.

use std::collections::BTreeSet;
use std::sync::Arc;

use cledger_core::address::{Address, AddressError, Owner};
use cledger_core::model::{Ledger, Subject};
use cledger_core::name::Name;
use cledger_store::Scope;

use crate::opened::Opened;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// A text with a name in it that no address has.
struct Seen<'t> {
    owner: Owner,
    name: &'t str,
    stage: Option<Name>,
}

impl<'t> Seen<'t> {
    fn read(text: &'t str) -> Option<Self> {
        let (owner, rest) = text.split_once('/')?;
        let owner = Address::parse(owner).ok()?.owner?;
        let (name, stage) = rest.rsplit_once('@').map_or((rest, None), |(name, stage)| (name, Some(stage)));
        let stage = stage.map(Name::parse).transpose().ok()?;
        Some(Self { owner, name, stage })
    }
}

/// The address that is meant: what it says, or the field that an output of the unit calls so.
pub(crate) fn read(
    text: &str,
    ledger: impl FnOnce(&Name) -> Result<Arc<Ledger>, Trouble>,
) -> Result<Address, Trouble> {
    let error: AddressError = match Address::parse(text) {
        Ok(address) => return Ok(address),
        Err(error) => error,
    };
    let Some(Seen { owner, name, stage }) = Seen::read(text) else { return Err(error.into()) };
    let Owner::Unit(unit, _) = &owner else { return Err(error.into()) };
    let ledger = ledger(unit)?;
    let Some(id) = ledger.unit_id(unit.as_str()) else { return Err(error.into()) };
    let fields: BTreeSet<_> = ledger.fields_called(id, name);
    let named: Vec<Address> = fields
        .into_iter()
        .map(|slot| {
            let (entry, field) = ledger.field(Subject::Unit(id, None), slot);
            Address::of_field(owner.clone(), &entry.name, field.name.as_ref(), stage.as_ref())
        })
        .collect();
    match &named[..] {
        [] => Err(error.into()),
        [one] => Ok(one.clone()),
        several => {
            let all: Vec<String> = several.iter().map(ToString::to_string).collect();
            Err(Trouble::usage(format!("`{name}` is the name of several fields of `{owner}` in its outputs"))
                .help(format!("write which one: {}", all.join(", "))))
        }
    }
}

/// The same where no ledger is open yet: only the unit is read, and only where no address was written.
pub fn read_at(at: &Arc<Workplace>, text: &str) -> Result<Address, Trouble> {
    read(text, |unit| Ok(Opened::read(at, &Scope::Units([unit.clone()].into()))?.ledger))
}
