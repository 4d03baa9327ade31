//! The rows of a lookup table, which has a table of its own: by key, and with a column for each cell.
//!
//! On their way they are one text, as the ledger has one value: a JSON object by key, of objects of texts by column. A
//! cell without anything is an empty text there, and NULL in a column that holds no text.

use std::collections::BTreeMap;

use cledger_core::delivery::RowChange;
use zeroize::Zeroizing;

use super::column::{Column, Holds};
use super::connection::Row;
use super::there::{TableThere, refused};
use crate::failure::Failure;
use crate::held::TableOf;

/// A table with a column for each of a lookup table's.
#[derive(Debug, Clone)]
pub(super) struct Lookup {
    pub(super) of: TableOf,
    pub(super) table: TableThere,
    pub(super) key: Column,
    /// The columns by their names in the ledger.
    pub(super) cells: BTreeMap<String, Column>,
}

impl Lookup {
    pub(super) fn takes(&self, seen: Option<&Zeroizing<String>>, change: &RowChange) -> Result<(), Failure> {
        let (RowChange::Insert(name, text) | RowChange::Update(name, text)) = change else { return Ok(()) };
        let seen = seen.map(|seen| rows(name, seen)).transpose()?.unwrap_or_default();
        for (key, cells) in &rows(name, text)? {
            self.key.refuse(key).map_err(|why| refused(&format!("`{name}`, the key `{key}`"), &why))?;
            for (column, text) in cells {
                let of_cell = || format!("`{name}`, {column} of the row `{key}`");
                let Some(known) = self.cells.get(column) else {
                    return Err(refused(&of_cell(), &"the outlet names no column for it"));
                };
                let Some(text) = cell(known, Some(text)) else { continue };
                known.refuse(&text).map_err(|why| refused(&of_cell(), &why))?;
            }
            if seen.contains_key(key) {
                continue;
            }
            let given = cells.iter().filter_map(|(name, text)| {
                let column = self.cells.get(name)?;
                cell(column, Some(text)).map(|_| column)
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

/// The cells of a row by the ledger's column.
pub(super) type Cells = BTreeMap<String, Zeroizing<String>>;

/// Rows by key.
pub(super) type Rows = BTreeMap<String, Cells>;

/// Reads the text of a lookup table.
pub(super) fn rows(name: &str, text: &str) -> Result<Rows, Failure> {
    let read: Result<BTreeMap<String, BTreeMap<String, String>>, _> = serde_json::from_str(text);
    let read =
        read.map_err(|_| Failure::unexpected(format!("`{name}` has no rows that a table could hold")))?;
    let cells = |cells: BTreeMap<String, String>| {
        cells.into_iter().map(|(column, text)| (column, Zeroizing::new(text))).collect()
    };
    Ok(read.into_iter().map(|(key, row)| (key, cells(row))).collect())
}

/// The text of rows.
pub(super) fn text(rows: &Rows) -> Zeroizing<String> {
    let cells =
        |cells: &Cells| cells.iter().map(|(column, text)| (column.clone(), text.as_str().into())).collect();
    let rows = rows.iter().map(|(key, row)| (key.clone(), serde_json::Value::Object(cells(row))));
    Zeroizing::new(serde_json::Value::Object(rows.collect()).to_string())
}

/// What there is, with each cell in the words in which it was said, where it is the same in the column's type.
pub(super) fn in_words_of(lookup: &Lookup, there: &str, said: &[&str]) -> Option<Zeroizing<String>> {
    let name = &lookup.of.name;
    let mut there = rows(name, there).ok()?;
    let said: Vec<Rows> = said.iter().filter_map(|said| rows(name, said).ok()).collect();
    for (key, cells) in &mut there {
        for (name, text) in cells {
            let Some(column) = lookup.cells.get(name) else { continue };
            let words =
                said.iter().find_map(|said| said.get(key)?.get(name).filter(|it| column.is_same(it, text)));
            if let Some(words) = words {
                *text = words.clone();
            }
        }
    }
    Some(text(&there))
}

/// The rows that a query of the key and all cells gave.
pub(super) fn of_query(lookup: &Lookup, found: Vec<Row>) -> Result<Rows, Failure> {
    let mut rows = Rows::new();
    for row in found {
        let mut cells = row.into_iter();
        let Some(Some(key)) = cells.next() else { continue };
        let key = lookup.key.told(key);
        let told = |(column, text): (&Column, Option<Zeroizing<String>>)| {
            text.map(|text| column.told(text)).unwrap_or_default()
        };
        let named = lookup.cells.iter().zip(cells);
        let named = named.map(|((name, column), text)| (name.clone(), told((column, text))));
        if rows.insert(key.to_string(), named.collect()).is_some() {
            let (name, key) = (&lookup.of.name, key.as_str());
            return Err(Failure::unexpected(format!("`{name}` has two rows with the key `{key}`")));
        }
    }
    Ok(rows)
}

/// What a column gets for the text of a cell: NULL where it holds no text, and the cell nothing.
pub(super) fn cell(column: &Column, text: Option<&Zeroizing<String>>) -> Option<Zeroizing<String>> {
    text.filter(|text| !text.is_empty() || column.holds == Holds::Text).cloned()
}
