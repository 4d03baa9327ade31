//! `cledger outlet prepare`: the tables that outlets of kind `postgres` need.

use clap::Args;
use cledger_core::model::{Ledger, Outlet, OutletKind, PostgresOutlet};
use cledger_core::name::{Name, nearest};
use cledger_store::Scope;

use crate::app::App;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::reality::{Around, reach};

#[derive(Debug, Args)]
pub(crate) struct PrepareArgs {
    /// The outlets; all of kind postgres if not given
    #[arg(value_name = "OUTLET")]
    outlets: Vec<Name>,
    /// Make the tables; without it they are only named
    #[arg(long)]
    write: bool,
}

/// What became of one table.
pub(crate) struct Prepared {
    pub(crate) outlet: String,
    pub(crate) table: String,
    pub(crate) what: Preparing,
}

/// What becomes of a table.
pub(crate) enum Preparing {
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

pub(super) fn run(args: &PrepareArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let (root, ledger) = app.open(&Scope::Units(std::collections::BTreeSet::new()))?;
    let outside = app.outside(&root);
    let around = Around::of(app, &root, &outside);
    let mut prepared = Vec::new();
    for (outlet, postgres) in chosen(&args.outlets, &ledger)? {
        let what = if postgres.columns.are_given {
            Preparing::TheirOwn
        } else if !args.write {
            Preparing::Wanted
        } else {
            let reach = reach::postgres(postgres, &around);
            match reach.and_then(|reach| reach.prepare(outlet.timeout).map_err(|failure| failure.to_string()))
            {
                Ok(true) => Preparing::Made,
                Ok(false) => Preparing::WasThere,
                Err(reason) => Preparing::Failed(reason),
            }
        };
        prepared.push(Prepared { outlet: outlet.name.to_string(), table: postgres.table.join("."), what });
    }
    if app.console.is_json() {
        app.console.document(&json::outlet::prepared(&prepared, args.write));
    } else {
        text::outlet::prepared(app.console, &prepared, args.write);
    }
    let failed = prepared.iter().any(|it| matches!(it.what, Preparing::Failed(_)));
    Ok(if failed { status::OUTSIDE } else { status::CLEAN })
}

/// The outlets of this kind that are named, or all.
fn chosen<'l>(names: &[Name], ledger: &'l Ledger) -> Result<Vec<(&'l Outlet, &'l PostgresOutlet)>, CliError> {
    let all: Vec<(&Outlet, &PostgresOutlet)> = ledger
        .outlets
        .iter()
        .filter_map(|outlet| match &outlet.kind {
            OutletKind::Postgres(postgres) => Some((outlet, postgres.as_ref())),
            _ => None,
        })
        .collect();
    if all.is_empty() {
        return Err(CliError::usage("the ledger has no outlet of kind postgres")
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
            CliError::usage(format!("there is no outlet `{name}` of kind postgres")).help(help)
        })
    };
    names.iter().map(one).collect()
}
