//! Reading back the rows of a table.

use super::source::{Listing, Source, Teller};
use crate::failure::Deadline;
use crate::held::{Asked, Held};
use crate::reach::PostgresReach;
use crate::rows::Rows;

/// Tells what a table holds.
pub(super) fn tell(postgres: &PostgresReach, source: &Source, teller: &Teller<'_>, deadline: Deadline) {
    let scopes: Vec<String> = source.asked.values().filter_map(scope).map(str::to_owned).collect();
    let ending = match &source.listing {
        Some(Listing::Scopes(ending)) => Some(ending.as_str()),
        _ => None,
    };
    let read = Rows::of(postgres, deadline).and_then(|mut rows| rows.read(&scopes, ending));
    let (mut found, names) = match read {
        Ok(read) => read,
        Err(failure) => return teller.trouble(failure.to_string()),
    };
    let unit = |scope: &String| scope.strip_suffix(ending.unwrap_or_default()).map(str::to_owned);
    if !teller.names(names.iter().filter_map(unit).collect()) {
        return;
    }
    for (unit, asked) in &source.asked {
        let rows = scope(asked).and_then(|scope| found.remove(scope));
        if !teller.unit(unit, rows.map_or(Held::NotThere, Held::Rows)) {
            return;
        }
    }
}

fn scope(asked: &Asked) -> Option<&str> {
    match asked {
        Asked::Rows(scope) => Some(scope),
        _ => None,
    }
}
