//! `cledger list`: what the ledger has.

use std::collections::BTreeSet;

use clap::{Args, ValueEnum};
use cledger_store::Scope;

use crate::app::App;
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ListArgs {
    /// What to list
    #[arg(value_enum, default_value = "units")]
    what: What,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum What {
    /// The deployable units
    Units,
    /// The stages, in their order
    Stages,
    /// The groups of settings that stages share
    Groups,
    /// The entries that units share
    Shared,
}

pub(crate) fn run(args: &ListArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let scope = if args.what == What::Groups { Scope::Units(BTreeSet::new()) } else { Scope::Whole };
    let (_, ledger) = app.open(&scope)?;
    let console = &mut *app.console;
    match (args.what, console.is_json()) {
        (What::Units, true) => console.document(&json::list::units(&ledger)),
        (What::Stages, true) => console.document(&json::list::stages(&ledger)),
        (What::Groups, true) => console.document(&json::list::groups(&ledger)),
        (What::Shared, true) => console.document(&json::list::shared(&ledger)),
        (What::Units, false) => text::list::units(console, &ledger),
        (What::Stages, false) => text::list::stages(console, &ledger),
        (What::Groups, false) => text::list::groups(console, &ledger),
        (What::Shared, false) => text::list::shared(console, &ledger),
    }
    Ok(status::CLEAN)
}
