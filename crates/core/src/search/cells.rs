//! The cells of lookup tables, looked at like fields: each by its column, with the row's key among them.

use super::{Conditions, Found, Test, holds};
use crate::model::{Kind, Ledger};
use crate::types::Type;
use crate::value::{Held, Value};

/// A cell of a lookup table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cell<'v> {
    /// The key of its row.
    pub row: &'v str,
    /// Its column.
    pub column: &'v str,
    /// What stands in it.
    pub text: &'v str,
}

impl Conditions {
    /// The cells of a table that all conditions on values cover. The key of a row is one of its cells; it is meant only
    /// where its column is named, or where values are looked at and not only columns.
    pub fn cells<'v>(&self, ledger: &'v Ledger, found: &Found<'v>) -> Vec<Cell<'v>> {
        let (entry, _) = ledger.field(found.subject, found.slot);
        let value = found.held.map(Held::expose);
        value.map(|rows| self.covered_cells(&entry.kind, entry.name.as_str(), rows)).unwrap_or_default()
    }

    pub(super) fn covered_cells<'v>(&self, kind: &'v Kind, entry: &str, rows: &'v Value) -> Vec<Cell<'v>> {
        let (Kind::Table { key, .. }, Value::Map(rows)) = (kind, rows) else { return Vec::new() };
        let mut covered = Vec::new();
        for (row, cells) in rows {
            let Value::Map(cells) = cells else { continue };
            let of_row = || {
                let others = cells.iter().filter(|(column, _)| column.as_str() != key);
                let others = others.filter_map(|(column, cell)| Some((column.as_str(), cell.as_text()?)));
                std::iter::once((KEY, row.as_str())).chain(others)
            };
            let here =
                |column: &str| self.pattern.as_ref().is_none_or(|it| it.covers_field(entry, Some(column)));
            let in_row =
                |name: &str| of_row().find(|(column, _)| named(column, key) == name).map(|(_, text)| text);
            let stands_beside =
                self.beside.iter().all(|beside| match (&beside.entry, in_row(&beside.name)) {
                    (None, Some(text)) => holds_in(&beside.test, text),
                    // It is no column: what is beside the table decides.
                    _ => true,
                });
            if !stands_beside {
                continue;
            }
            covered.extend(
                of_row()
                    .map(|(column, text)| Cell { row, column: named_in(column, kind), text })
                    .filter(|cell| here(cell.column))
                    .filter(|cell| self.tests.iter().all(|test| holds_in(test, cell.text))),
            );
        }
        covered
    }

    /// Whether the pattern names columns of a table.
    pub fn names_columns(&self, entry: &str) -> bool {
        self.pattern.as_ref().is_some_and(|pattern| !pattern.covers_field(entry, None))
    }
}

/// Stands for the key's column.
const KEY: &str = "";

fn named<'n>(column: &'n str, key: &'n str) -> &'n str {
    if column == KEY { key } else { column }
}

fn named_in<'n>(column: &'n str, kind: &'n Kind) -> &'n str {
    match kind {
        Kind::Table { key, .. } => named(column, key),
        _ => column,
    }
}

/// Whether the text of a cell passes; bounds read it as a number.
pub(super) fn holds_in(test: &Test, cell: &str) -> bool {
    match test {
        Test::Over(_) | Test::Under(_) => {
            Type::Number.read(cell).is_some_and(|number| holds(test, &number, Type::Number))
        }
        test => holds(test, &Value::text(cell), Type::Text),
    }
}
