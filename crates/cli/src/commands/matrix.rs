//! `cledger matrix`: fields down, stages across.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_work::Trouble;
use cledger_work::cells::lines;
use cledger_work::matrix::{ToTabulate, matrix, scope};

use crate::app::App;
use crate::complete;
use crate::exit;

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
    let asked =
        ToTabulate { pattern: args.pattern.clone(), missing: args.missing, differing: args.differing };
    let opened = app.open_partly(&scope(&asked))?;
    let outside = opened.unfetched();
    let matrix = matrix(&opened, &outside, &asked)?;
    let status = if args.csv {
        app.console.exact(lines(&matrix)?.trim_end_matches('\n'));
        exit::CLEAN
    } else {
        app.show(&matrix)
    };
    opened.tell_unread_of(&outside);
    Ok(status)
}
