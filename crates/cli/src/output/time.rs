//! Times of records, as RFC 3339 writes them, for people.

/// The day of a time as RFC 3339 writes it.
pub(crate) fn day(time: &str) -> &str {
    time.split('T').next().unwrap_or(time)
}

/// When, to the minute.
pub(crate) fn minute(time: &str) -> String {
    time.get(..16).unwrap_or(time).replace('T', " ")
}
