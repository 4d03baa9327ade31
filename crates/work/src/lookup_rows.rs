//! The rows of a lookup table, as a value has them.

use cledger_core::tree::Branch;
use cledger_core::value::Value;

/// The rows that a value has, be it in JSON.
pub(crate) fn rows_of(value: &Value) -> Option<Branch> {
    let rows = match value {
        Value::Map(rows) => rows.clone(),
        Value::Text(text) => match Value::from_json(serde_json::from_str(text).ok()?)? {
            Value::Map(rows) => rows,
            _ => return None,
        },
        _ => return None,
    };
    rows.values().all(|row| matches!(row, Value::Map(_))).then_some(rows)
}

/// The cells of a row but for its key.
pub(crate) fn cells(rows: &Branch, name: &str, key: &str) -> Option<Branch> {
    let Value::Map(cells) = rows.get(name)? else { return None };
    let mut cells = cells.clone();
    cells.remove(key);
    Some(cells)
}

/// What cells say, column by column.
pub(crate) fn texts(cells: &Branch) -> Vec<(String, String)> {
    cells.iter().map(|(column, cell)| (column.to_string(), cell.to_text().to_string())).collect()
}
