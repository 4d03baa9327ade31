//! New units and instances.

use std::fmt::Write as _;

use cledger_core::address::{Address, Owner};
use cledger_core::value::Value;
use cledger_store::{Changed, literal};

use crate::add::added::{Added, appended, write};
use crate::add::like::unit_like;
use crate::add::new_unit::NewUnit;
use crate::change::Changing;
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
    let mut text = String::new();
    for (word, said) in [("about", &new.about), ("owner", &new.owner)] {
        if let Some(said) = said {
            let _ = writeln!(text, "{word} = {}", literal(&Value::text(said), None));
        }
    }
    if !new.stages.is_empty() {
        let _ = writeln!(text, "stages = {:?}", new.stages);
    }
    if !new.uses.is_empty() {
        let _ = writeln!(text, "uses = {:?}", new.uses);
    }
    if text.is_empty() {
        text.push_str("# What the unit needs: `cledger add variable UNIT/NAME` and the like.\n");
    }
    let changed = Changed::from([(format!("units/{name}.toml"), Some(text))]);
    write(changing, changed, format!("unit {name}"))
}

/// Adds an instance of a unit, in these stages; in all of the unit's if none is given.
pub fn instance(changing: &Changing, address: &Address, stages: &[String]) -> Result<Added, Trouble> {
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
    let mut block = format!("[instances.{name}]\n");
    if !stages.is_empty() {
        let _ = writeln!(block, "stages = {stages:?}");
    }
    let changed = Changed::from([appended(changing, &format!("units/{unit}.toml"), &block)?]);
    write(changing, changed, format!("instance {address}"))
}
