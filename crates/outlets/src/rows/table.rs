//! The tables of an outlet as they are there, and what they take.

use std::collections::BTreeMap;

use cledger_core::delivery::RowChange;
use zeroize::Zeroizing;

use super::column::Column;
use super::lookup;
use crate::failure::Failure;
use crate::held::{RowsOf, TableOf, Values, Written};

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

/// A table with a column for each of a lookup table's.
#[derive(Debug, Clone)]
pub(super) struct Lookup {
    pub(super) of: TableOf,
    pub(super) table: TableThere,
    pub(super) key: Column,
    /// The columns by their names in the ledger.
    pub(super) cells: BTreeMap<String, Column>,
}

/// A table, and its columns.
#[derive(Debug, Clone)]
pub(super) struct TableThere {
    pub(super) parts: Vec<String>,
    pub(super) columns: Vec<Column>,
}

impl TableThere {
    fn name(&self) -> String {
        self.parts.join(".")
    }

    /// The column with this name.
    pub(super) fn column(&self, name: &str) -> Result<&Column, Failure> {
        self.columns.iter().find(|column| column.name == name).ok_or_else(|| {
            let names: Vec<&str> = self.columns.iter().map(|column| column.name.as_str()).collect();
            let (table, has) = (self.name(), names.join(", "));
            Failure::unexpected(format!("`{table}` has no column `{name}`: it has {has}"))
        })
    }

    /// Refuses conditions and fixed texts that its columns cannot have.
    pub(super) fn has(
        &self,
        only: &[(String, String)],
        written: &[(String, Written)],
    ) -> Result<(), Failure> {
        for (name, text) in only {
            self.column(name)?.refuse(text).map_err(|why| refused(&format!("`where`, {name}"), &why))?;
        }
        for (name, written) in written {
            let column = self.column(name)?;
            if column.is_generated {
                let table = self.name();
                let message = format!("the column `{name}` of `{table}` is filled by the database alone");
                return Err(Failure::unexpected(message));
            }
            if let Written::Text(text) = written {
                column.refuse(text).map_err(|why| refused(&format!("`fixed`, {name}"), &why))?;
            }
        }
        Ok(())
    }

    /// Refuses new rows that would lack something which the table needs; `said` is what they have.
    fn gets_all(
        &self,
        said: &[&str],
        only: &[(String, String)],
        written: &[(String, Written)],
    ) -> Result<(), Failure> {
        let is_said = |column: &Column| {
            said.contains(&column.name.as_str())
                || only.iter().any(|(name, _)| *name == column.name)
                || written.iter().any(|(name, _)| *name == column.name)
        };
        let lacking: Vec<String> = self
            .columns
            .iter()
            .filter(|column| column.is_needed && !is_said(column))
            .map(|column| format!("`{}` ({})", column.name, column.declared))
            .collect();
        if lacking.is_empty() {
            return Ok(());
        }
        let (table, lacking) = (self.name(), lacking.join(", "));
        Err(Failure::unexpected(format!(
            "`{table}` needs more of each new row than is said: {lacking}; say it with `fixed`, `where`, `who` or \
             `when` of the outlet"
        )))
    }
}

impl Tables {
    /// The lookup table that stands under this name, if one does.
    pub(super) fn lookup(&self, name: &str) -> Option<&Lookup> {
        self.lookups.iter().find(|lookup| lookup.of.name == name)
    }

    /// Tells values in the words in which they were said, where they are the same in their column's type.
    pub(super) fn in_words_of(&self, values: &mut Values, said: &[Values]) {
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

    /// Refuses what columns cannot hold, and new rows that would lack something. No value is told.
    pub fn takes(&self, of: &RowsOf, changes: &[RowChange]) -> Result<(), Failure> {
        for change in changes {
            match (self.lookup(change.name()), &self.main) {
                (Some(lookup), _) => lookup.takes(change)?,
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

impl Lookup {
    fn takes(&self, change: &RowChange) -> Result<(), Failure> {
        let (RowChange::Insert(name, text) | RowChange::Update(name, text)) = change else { return Ok(()) };
        let rows = lookup::rows(name, text)?;
        for (key, cells) in &rows {
            self.key.refuse(key).map_err(|why| refused(&format!("`{name}`, the key `{key}`"), &why))?;
            for (column, text) in cells {
                let of_cell = || format!("`{name}`, {column} of the row `{key}`");
                let Some(known) = self.cells.get(column) else {
                    return Err(refused(&of_cell(), &"the outlet names no column for it"));
                };
                let Some(text) = lookup::cell(known, Some(text)) else { continue };
                known.refuse(&text).map_err(|why| refused(&of_cell(), &why))?;
            }
            let given = cells.iter().filter_map(|(name, text)| {
                let column = self.cells.get(name)?;
                lookup::cell(column, Some(text)).map(|_| column)
            });
            let has = given.chain([&self.key]);
            let said: Vec<&str> = has.map(|column| column.name.as_str()).collect();
            self.table
                .gets_all(&said, &self.of.only, &self.of.written)
                .map_err(|failure| refused(&format!("`{name}`, the row `{key}`"), &failure))?;
        }
        Ok(())
    }
}

pub(super) fn refused(what: &str, why: &dyn std::fmt::Display) -> Failure {
    Failure::unexpected(format!("{what}: {why}"))
}
