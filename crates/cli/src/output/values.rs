//! Showing values to people and programs, secrets masked unless that was granted.

use cledger_core::kept::Kept;
use cledger_core::resolve::{Effective, Unread};
use cledger_core::value::Held;

pub(crate) use cledger_work::shown::{MASK, UNREADABLE, effective, escape, held, one_line};

/// A word as a shell takes it.
pub(crate) fn shell_word(word: &str) -> String {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "-_./:@=+%,".contains(c);
    if word.chars().all(is_plain) { word.to_owned() } else { format!("'{}'", word.replace('\'', "'\\''")) }
}

/// A value that is kept, on one line.
pub(crate) fn kept(kept: &Kept, unmask: bool) -> String {
    if !kept.is_readable() {
        return UNREADABLE.to_owned();
    }
    if kept.is_secret() && !unmask {
        return MASK.to_owned();
    }
    kept.value().map(|value| one_line(value.expose())).unwrap_or_default()
}

/// A value that is kept, as JSON; null for a masked secret and for what is not readable.
pub(crate) fn kept_json(kept: &Kept, unmask: bool) -> serde_json::Value {
    kept.value().map(|value| held_json(&value, unmask)).unwrap_or_default()
}

/// A value as the ledger holds it, as JSON; null for a masked secret.
pub(crate) fn held_json(held: &Held, unmask: bool) -> serde_json::Value {
    match held {
        Held::Secret(_) if !unmask => serde_json::Value::Null,
        held => held.expose().to_json(),
    }
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
    effective.held().map(|held| held_json(held, unmask)).unwrap_or_default()
}
