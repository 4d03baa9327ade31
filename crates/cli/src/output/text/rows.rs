//! The rows of a lookup table for people, each with its origin.

use cledger_core::compare::RowDifference;
use cledger_core::model::Ledger;
use cledger_core::resolve::Merged;
use cledger_core::value::Value;

use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{origin, values};
use cledger_work::compare::words::{Row, rows};
use cledger_work::shown::counted;

/// In front of a row, below its field.
pub(crate) const INDENT: &str = "    ";

/// Prints a table's effective rows, each with where it came from.
pub(crate) fn print(
    console: &mut Console,
    ledger: &Ledger,
    rows: &Value,
    merged: &Merged<'_>,
    columns: &[String],
) {
    let Value::Map(rows) = rows else { return };
    let mut heads: Vec<&str> = columns.iter().map(String::as_str).collect();
    heads.push("from");
    let mut table = Table::new(&heads, console.width());
    for (key, row) in rows {
        let mut cells: Vec<(String, Tone)> =
            columns.iter().map(|column| (cell(row, column), Tone::Plain)).collect();
        let from = merged.rows.get(key).map(|row| origin::line(ledger, row.origin)).unwrap_or_default();
        cells.push((from, Tone::Quiet));
        table.row(cells);
    }
    for line in table.lines() {
        console.line(line);
    }
    console.line(format!("\n{}.", counted(rows.len(), "row")));
}

fn cell(row: &Value, column: &str) -> String {
    match row {
        Value::Map(cells) => {
            let cell = cells.get(column).filter(|cell| cell.as_text() != Some(""));
            cell.map(values::one_line).unwrap_or_default()
        }
        _ => String::new(),
    }
}

/// Adds a line for each row in which two values of a lookup table differ, with the cells that do,
/// and in a last column the word for how, if there is one.
pub(crate) fn add_differences(
    table: &mut Table,
    (left, right): (&Value, &Value),
    word: Option<(&dyn Fn(RowDifference) -> String, Tone)>,
) {
    for Row { key, sides: [one, other], difference } in rows(left, right) {
        let mut cells = Vec::from([format!("{INDENT}row {key}"), one, other].map(|text| (text, Tone::Plain)));
        cells.extend(word.map(|(word, tone)| (word(difference), tone)));
        table.row(cells);
    }
}
