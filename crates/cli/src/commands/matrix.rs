//! `cledger matrix`: fields down, stages across.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_work::Trouble;
use cledger_work::cells::lines;
use cledger_work::matrix::{Matrix, ToTabulate, matrix, scope};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::exit;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
#[expect(clippy::struct_excessive_bools, reason = "options are independent of each other")]
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
    /// Print whole values, however wide that is
    #[arg(long)]
    wide: bool,
}

pub(crate) fn run(args: &MatrixArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let asked =
        ToTabulate { pattern: args.pattern.clone(), missing: args.missing, differing: args.differing };
    let opened = app.open_partly(&scope(&asked))?;
    let outside = opened.unfetched();
    let matrix = matrix(&opened, &outside, &asked)?;
    let status = if args.csv {
        app.console.verbatim_parts(lines(&matrix)?);
        exit::CLEAN
    } else {
        app.show(&View { matrix, wide: args.wide })
    };
    opened.tell_unread_of(&outside);
    Ok(status)
}

/// The table, with how much of a value is shown.
struct View<'l> {
    matrix: Matrix<'l>,
    wide: bool,
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        text::matrix::print(console, &self.matrix, self.wide);
    }

    fn document(&self) -> impl Serialize {
        let Matrix { ledger, stages, rows } = &self.matrix;
        json::matrix::document(ledger, stages, rows)
    }
}
