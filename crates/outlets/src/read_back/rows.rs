//! Reading back the rows of a table.

use super::source::{Listing, Source, Teller};
use crate::failure::Deadline;
use crate::held::{Asked, Held, RowsOf};
use crate::reach::RowsReach;
use crate::rows::Rows;

/// Tells what a table holds.
pub(super) fn tell(reach: &RowsReach, source: &Source, teller: &Teller<'_>, deadline: Deadline) {
    let asked: Vec<(&String, &RowsOf)> =
        source.asked.iter().filter_map(|(unit, asked)| Some((unit, rows_of(asked)?))).collect();
    let ending = match &source.listing {
        Some(Listing::Scopes(ending)) => Some(ending.as_str()),
        _ => None,
    };
    let scopes: Vec<&RowsOf> = asked.iter().map(|(_, of)| *of).collect();
    let read = Rows::to_read(reach, deadline).and_then(|mut rows| rows.read(&scopes, ending));
    let found = match read {
        Ok(read) => read,
        Err(failure) => return teller.trouble(failure.to_string()),
    };
    let unit = |scope: &String| scope.strip_suffix(ending.unwrap_or_default()).map(str::to_owned);
    if !teller.names(found.scopes.iter().filter_map(unit).collect()) {
        return;
    }
    for ((unit, _), (rows, table)) in asked.into_iter().zip(found.units) {
        teller.table(unit, table);
        if !teller.unit(unit, if rows.is_empty() { Held::NotThere } else { Held::Rows(rows) }) {
            return;
        }
    }
}

fn rows_of(asked: &Asked) -> Option<&RowsOf> {
    match asked {
        Asked::Rows(of) => Some(of),
        _ => None,
    }
}
