//! Times of records, as RFC 3339 writes them, for people.

pub(crate) use cledger_work::shown::minute;

/// The day of a time as RFC 3339 writes it.
pub(crate) fn day(time: &str) -> &str {
    time.split('T').next().unwrap_or(time)
}
