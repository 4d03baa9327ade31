//! `cledger matrix`: fields down, stages across.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Pattern;
use cledger_core::matrix::{Row, matrix};
use cledger_core::model::{Ledger, StageId};
use cledger_core::resolve::Resolver;
use cledger_store::Scope;
use cledger_work::Trouble;
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::exit;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct MatrixArgs {
    /// Which fields and stages, as a pattern of addresses, like `ticket-desk` or `*/bookings-db.*@prod-*`
    #[arg(add = ArgValueCompleter::new(complete::address))]
    pattern: Option<String>,
    /// Only fields that lack a value somewhere
    #[arg(long)]
    missing: bool,
    /// Only fields in which stages differ
    #[arg(long)]
    differing: bool,
    /// Print whole values as comma-separated lines (RFC 4180), for a spreadsheet
    #[arg(long, conflicts_with = "json")]
    csv: bool,
}

pub(crate) fn run(args: &MatrixArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let pattern = args.pattern.as_deref().map(Pattern::parse).transpose()?;
    let opened = app.open(&Scope::Whole)?;
    let (ledger, outside) = (&*opened.ledger, opened.unfetched());
    let covered = |stage: &StageId| {
        let name = ledger.stage(*stage).name.as_str();
        pattern.as_ref().is_none_or(|pattern| pattern.covers_stage(name))
    };
    let stages: Vec<StageId> = ledger.stage_ids().filter(covered).collect();
    let resolver = Resolver::new(ledger, &outside, &[]);
    let mut rows = matrix(&resolver, pattern.as_ref(), &stages);
    if stages.is_empty() || rows.is_empty() {
        let message = format!("`{}` covers nothing", args.pattern.as_deref().unwrap_or("*"));
        return Err(Trouble::usage(message).help("`cledger list` shows the names"));
    }
    let wanted = |row: &Row<'_>| {
        row.says_something()
            && (!args.missing || row.is_missing_somewhere())
            && (!args.differing || row.differs())
    };
    rows.retain(wanted);
    let status = if args.csv {
        text::matrix::csv(app.console, ledger, &stages, &rows)?;
        exit::CLEAN
    } else {
        app.show(&View { ledger, stages, rows })
    };
    opened.tell_unread_of(&outside);
    Ok(status)
}

/// The rows that are shown.
struct View<'l> {
    ledger: &'l Ledger,
    stages: Vec<StageId>,
    rows: Vec<Row<'l>>,
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        text::matrix::print(console, self.ledger, &self.stages, &self.rows);
    }

    fn document(&self) -> impl Serialize {
        json::matrix::document(self.ledger, &self.stages, &self.rows)
    }
}
