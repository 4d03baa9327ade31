//! New units and instances.

use cledger_core::address::{Address, Owner};
use cledger_store::Changed;

use crate::add::added::{Added, with_table, write};
use crate::add::like::unit_like;
use crate::add::new_unit::NewUnit;
use crate::change::Changing;
use crate::declare::add::pairs;
use crate::declare::{Said, Thing};
use crate::trouble::Trouble;

/// Adds a unit with an empty contract, or one that is like another.
pub fn unit(changing: &Changing, new: &NewUnit) -> Result<Added, Trouble> {
    let name = &new.name;
    if name.is_taken() {
        let message = format!("`{name}` has a meaning of its own in addresses");
        return Err(Trouble::usage(message).help("choose another name"));
    }
    if changing.ledger().unit_id(name.as_str()).is_some() {
        let message = format!("there is a unit `{name}` already");
        return Err(Trouble::usage(message).help(format!("cledger show {name} shows it")));
    }
    if let Some(old) = &new.like.unit {
        return unit_like(changing, new, changing.opened.unit_id(old)?);
    }
    let pairs = pairs(&Thing::Unit(name.clone()), &new.said)?;
    let lines: Vec<String> = pairs.iter().map(|(key, literal)| format!("{key} = {literal}\n")).collect();
    let mut text = lines.concat();
    if text.is_empty() {
        text.push_str("# What the unit needs: `cledger add variable UNIT/NAME` and the like.\n");
    }
    let changed = Changed::from([(format!("units/{name}.toml"), Some(text))]);
    write(changing, changed, format!("unit {name}"))
}

/// Adds an instance of a unit, of which this is said.
pub fn instance(changing: &Changing, address: &Address, said: &[Said]) -> Result<Added, Trouble> {
    let (Some(Owner::Unit(unit, Some(name))), None, None) = (&address.owner, &address.entry, &address.stage)
    else {
        return Err(Trouble::usage(format!("`{address}` names no instance")).help("write UNIT+INSTANCE"));
    };
    let opened = &changing.opened;
    opened.unit(unit, None)?;
    if opened.unit(unit, Some(name)).is_ok() {
        return Err(
            Trouble::usage(format!("there is an instance `{address}` already")).help("choose another name")
        );
    }
    let thing = Thing::Instance(unit.clone(), name.clone());
    let changed = with_table(
        changing,
        &format!("units/{unit}.toml"),
        ["instances", name.as_str()],
        &pairs(&thing, said)?,
    )?;
    write(changing, changed, format!("instance {address}"))
}
