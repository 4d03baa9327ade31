//! New variables, connections, endpoints, credentials and tables.

use cledger_core::address::{Address, Owner};
use cledger_core::model::{Ledger, Subject};
use cledger_core::name::Name;
use cledger_store::shared_file;

use crate::add::added::{Added, with_table, written};
use crate::change::Changing;
use crate::declare::add::pairs;
use crate::declare::{Said, Thing};
use crate::meant::outputs_of;
use crate::trouble::Trouble;

/// An entry that is new.
#[derive(Debug, Clone)]
pub struct NewEntry {
    /// Its address, as UNIT/ENTRY or shared/ENTRY.
    pub address: String,
    /// The table of a contract that it stands in.
    pub table: &'static str,
    /// What is said of it.
    pub said: Vec<Said>,
}

/// Adds an entry to a unit's contract, or a shared one.
pub fn entry(changing: &Changing, new: &NewEntry) -> Result<Added, Trouble> {
    let address = Address::parse(&new.address)?;
    let (Some(owner), Some(name), None, None) =
        (&address.owner, &address.entry, &address.field, &address.stage)
    else {
        return Err(
            Trouble::usage(format!("`{address}` names no entry")).help("write UNIT/ENTRY or shared/ENTRY")
        );
    };
    let path = match owner {
        Owner::Unit(_, Some(_)) => {
            let message = format!("`{address}` names an instance, and its unit declares its entries");
            return Err(Trouble::usage(message).help("leave out what begins with `+`"));
        }
        Owner::Unit(unit, None) => {
            changing.opened.unit(unit, None)?;
            format!("units/{unit}.toml")
        }
        Owner::Shared => shared_file(changing.ledger()),
    };
    must_be_free(changing.ledger(), owner, name)?;
    let thing = Thing::Entry(owner.clone(), new.table, name.clone());
    let pairs = pairs(&thing, &with_key(new))?;
    let changed = with_table(changing, &path, [new.table, name.as_str()], &pairs)?;
    let (added, after) = written(changing, changed, address.to_string())?;
    let Owner::Unit(unit, _) = owner else { return Ok(added) };
    Ok(Added { outputs: outputs_of(&after, unit, name), ..added })
}

/// What is said of it; a table's key is its first column where none is said.
fn with_key(new: &NewEntry) -> Vec<Said> {
    let mut said = new.said.clone();
    let has = |option: &str| new.said.iter().find(|it| it.option == option);
    let columns = has("columns").and_then(|it| it.values.first()).and_then(|value| value.split(',').next());
    if let (Some(first), None) = (columns, has("key")) {
        said.push(Said { option: "key".to_owned(), values: vec![first.trim().to_owned()] });
    }
    said
}

fn must_be_free(ledger: &Ledger, owner: &Owner, name: &Name) -> Result<(), Trouble> {
    let subject = match owner {
        Owner::Shared => Subject::Shared,
        Owner::Unit(unit, _) => match ledger.unit_id(unit.as_str()) {
            Some(id) => Subject::Unit(id, None),
            None => return Ok(()),
        },
    };
    if ledger.entry_names(subject).any(|known| known == name.as_str()) {
        let message = format!("`{owner}` has an entry `{name}` already");
        return Err(Trouble::usage(message).help(format!("cledger show {owner}/{name} shows it")));
    }
    Ok(())
}
