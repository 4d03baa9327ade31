//! Showing values to people and programs, secrets masked unless that was granted.

use cledger_core::resolve::{Content, Effective, Unread};
use cledger_core::value::{Held, Value};

pub(crate) use super::clean::escape;

/// What stands for a secret.
pub(crate) const MASK: &str = "(secret)";

/// What stands for a value that is outside the ledger and was not read.
pub(crate) const UNREAD: &str = "(not read)";

/// What stands for a secret whose key is not at hand.
pub(crate) const UNREADABLE: &str = "(not readable)";

/// A value that is kept as JSON, in one line.
pub(crate) fn of_json(text: &str) -> String {
    let value = serde_json::from_str(text).ok().and_then(Value::from_json);
    value.map_or_else(|| escape(text), |value| one_line(&value))
}

/// The most characters of a value that people are shown; `get` and `--json` give all of it.
const LONGEST_SHOWN: usize = 4000;

/// A value on one line: control characters escaped, empty text in quotes.
pub(crate) fn one_line(value: &Value) -> String {
    if is_rows(value) {
        return row_count(value);
    }
    let text = value.to_text();
    if text.is_empty() {
        return "\"\"".to_owned();
    }
    if let Some((end, _)) = text.char_indices().nth(LONGEST_SHOWN) {
        let count = text.chars().count();
        return format!("{}… ({count} characters)", escape(&text[..end]));
    }
    if text.starts_with(' ') || text.ends_with(' ') {
        return format!("\"{}\"", escape(&text));
    }
    escape(&text)
}

/// Whether a value is the rows of a lookup table: no map that a field can have holds maps.
pub(crate) fn is_rows(value: &Value) -> bool {
    let is_row = |row: &Value| matches!(row, Value::Map(_) | Value::Boolean(false));
    matches!(value, Value::Map(rows) if rows.values().any(is_row))
}

/// How many rows there are, and how many are taken out.
fn row_count(value: &Value) -> String {
    let Value::Map(rows) = value else { return String::new() };
    let gone = rows.values().filter(|row| matches!(row, Value::Boolean(false))).count();
    let rows = match rows.len() - gone {
        1 => "1 row".to_owned(),
        rows => format!("{rows} rows"),
    };
    if gone == 0 { rows } else { format!("{rows}, {gone} taken out") }
}

/// A value as the ledger holds it, on one line.
pub(crate) fn held(held: &Held) -> String {
    match held {
        Held::Open(value) => one_line(value),
        Held::Secret(_) => MASK.to_owned(),
    }
}

/// A value as the ledger holds it, as JSON; null for a masked secret.
pub(crate) fn held_json(held: &Held, unmask: bool) -> serde_json::Value {
    match held {
        Held::Secret(_) if !unmask => serde_json::Value::Null,
        held => held.expose().to_json(),
    }
}

/// An effective value on one line.
pub(crate) fn effective(effective: &Effective<'_>, unmask: bool) -> String {
    if effective.unread() == Some(Unread::NoKey) {
        return UNREADABLE.to_owned();
    }
    if effective.secret && !unmask {
        return MASK.to_owned();
    }
    effective.expose().map_or(UNREAD.to_owned(), one_line)
}

/// Why a value was not read, as a word for programs.
pub(crate) fn unread_word(effective: &Effective<'_>) -> Option<&'static str> {
    effective.unread().map(|why| match why {
        Unread::Outside => "outside",
        Unread::NotTrusted => "not-trusted",
        Unread::NoKey => "no-key",
    })
}

/// An effective value as JSON; null for a masked secret and for what was not read.
pub(crate) fn json(effective: &Effective<'_>, unmask: bool) -> serde_json::Value {
    match effective.content {
        Content::Unread(_) => serde_json::Value::Null,
        _ if effective.secret && !unmask => serde_json::Value::Null,
        _ => effective.expose().map(Value::to_json).unwrap_or_default(),
    }
}
