//! The tables of an outlet as they are there, and what they take.

use cledger_core::delivery::RowChange;
use zeroize::Zeroizing;

use super::column::Column;
use super::lookup::{self, Lookup};
use super::there::{TableThere, refused};
use crate::failure::Failure;
use crate::held::{RowsOf, Values};

/// The tables that a unit has rows in.
#[derive(Debug, Clone)]
pub struct Tables {
    /// That of names and values, where there is one.
    pub(super) main: Option<Main>,
    /// Those that a lookup table of the unit has for itself, as they are asked for.
    pub(super) lookups: Vec<Lookup>,
}

/// A table of names and values.
#[derive(Debug, Clone)]
pub(super) struct Main {
    pub(super) table: TableThere,
    pub(super) scope: Column,
    pub(super) name: Column,
    pub(super) value: Column,
}

impl Tables {
    /// The lookup table that stands under this name, if one does.
    pub(super) fn lookup(&self, name: &str) -> Option<&Lookup> {
        self.lookups.iter().find(|lookup| lookup.of.name == name)
    }

    /// Tells values in the words in which they were said, where they are the same in their column's type.
    pub fn in_words_of(&self, values: &mut Values, said: &[Values]) {
        for (name, text) in values {
            let said: Vec<&str> =
                said.iter().filter_map(|said| said.get(name)).map(|it| it.as_str()).collect();
            let words = match (self.lookup(name), &self.main) {
                (Some(lookup), _) => lookup::in_words_of(lookup, text, &said),
                (None, Some(main)) => {
                    let same = said.into_iter().find(|said| main.value.is_same(said, text));
                    same.map(|same| Zeroizing::new(same.to_owned()))
                }
                (None, None) => None,
            };
            if let Some(words) = words {
                *text = words;
            }
        }
    }

    /// Refuses what columns cannot hold, and rows that would lack something and were not among those that were seen. No
    /// value is told.
    pub fn takes(&self, of: &RowsOf, seen: &Values, changes: &[RowChange]) -> Result<(), Failure> {
        for change in changes {
            match (self.lookup(change.name()), &self.main) {
                (Some(lookup), _) => lookup.takes(seen.get(change.name()), change)?,
                (None, Some(main)) => main.takes(of, change)?,
                (None, None) => {
                    let name = change.name();
                    return Err(Failure::unexpected(format!("no table is said that takes `{name}`")));
                }
            }
        }
        Ok(())
    }
}

impl Main {
    fn takes(&self, of: &RowsOf, change: &RowChange) -> Result<(), Failure> {
        if let RowChange::Insert(..) = change {
            let said = [&self.scope, &self.name, &self.value].map(|column| column.name.as_str());
            self.table.gets_all(&said, &of.only, &of.written)?;
        }
        let scope = &of.scope;
        self.scope.refuse(scope).map_err(|why| refused(&format!("the scope `{scope}`"), &why))?;
        if let RowChange::Insert(name, value) | RowChange::Update(name, value) = change {
            self.name.refuse(name).map_err(|why| refused(&format!("the name `{name}`"), &why))?;
            self.value.refuse(value).map_err(|why| refused(&format!("the value of `{name}`"), &why))?;
        }
        Ok(())
    }
}
