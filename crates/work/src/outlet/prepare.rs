//! The tables that outlets of kind `postgres` need.

use cledger_core::model::{Ledger, Outlet, OutletKind, PostgresOutlet};
use cledger_core::name::{Name, nearest};

use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::way;
use crate::trouble::Trouble;

/// What became of one table.
#[derive(Debug, Clone)]
pub struct Prepared {
    /// The outlet.
    pub outlet: String,
    /// The table.
    pub table: String,
    /// What became of it.
    pub what: Preparing,
}

/// What becomes of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Preparing {
    /// It would be made, if it is not there.
    Wanted,
    /// It is an application's own, which is left as it is.
    TheirOwn,
    /// It was made.
    Made,
    /// It was there already, as it should be.
    WasThere,
    /// It cannot be made, for this reason.
    Failed(String),
}

/// Makes the tables of these outlets, of all without one, or says which would be made.
pub fn prepare(opened: &Opened, outlets: &[Name], write: bool) -> Result<Vec<Prepared>, Trouble> {
    let around = Around::of(opened);
    let mut prepared = Vec::new();
    for (outlet, postgres) in chosen(outlets, &opened.ledger)? {
        let what = if postgres.columns.are_given {
            Preparing::TheirOwn
        } else if !write {
            Preparing::Wanted
        } else {
            let reach = way::postgres(postgres, &around);
            match reach.and_then(|reach| reach.prepare(outlet.timeout).map_err(|failure| failure.to_string()))
            {
                Ok(true) => Preparing::Made,
                Ok(false) => Preparing::WasThere,
                Err(reason) => Preparing::Failed(reason),
            }
        };
        prepared.push(Prepared { outlet: outlet.name.to_string(), table: postgres.table.join("."), what });
    }
    Ok(prepared)
}

/// The outlets of this kind that are named, or all.
fn chosen<'l>(names: &[Name], ledger: &'l Ledger) -> Result<Vec<(&'l Outlet, &'l PostgresOutlet)>, Trouble> {
    let all: Vec<(&Outlet, &PostgresOutlet)> = ledger
        .outlets
        .iter()
        .filter_map(|outlet| match &outlet.kind {
            OutletKind::Postgres(postgres) => Some((outlet, postgres.as_ref())),
            _ => None,
        })
        .collect();
    if all.is_empty() {
        return Err(Trouble::usage("the ledger has no outlet of kind postgres")
            .help("declare one in ledger.toml as [[outlet]]"));
    }
    if names.is_empty() {
        return Ok(all);
    }
    let one = |name: &Name| {
        let found = all.iter().find(|(outlet, _)| outlet.name == *name);
        found.copied().ok_or_else(|| {
            let known: Vec<&str> = all.iter().map(|(outlet, _)| outlet.name.as_str()).collect();
            let near = nearest(name.as_str(), known.iter().copied());
            let help = near.map_or_else(
                || format!("those are {}", known.join(", ")),
                |near| format!("did you mean `{near}`?"),
            );
            Trouble::usage(format!("there is no outlet `{name}` of kind postgres")).help(help)
        })
    };
    names.iter().map(one).collect()
}
