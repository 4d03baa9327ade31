//! `cledger history`: what was delivered where, when, by whom and why.

use std::collections::BTreeSet;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Pattern;
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::deliver::history::{copy, history, verified};
use cledger_work::shown::counted;
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::output::console::Console;
use crate::output::json;
use crate::output::shown::Shown;

#[derive(Debug, Args)]
pub(crate) struct HistoryArgs {
    /// Whose: UNIT@STAGE, UNIT, @STAGE, or a pattern of these; everything if not given
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "PATTERN")]
    pattern: Option<String>,
    /// Show the last so many
    #[arg(long, value_name = "COUNT", default_value_t = 20)]
    last: usize,
    /// Prove that no record was changed, put in or taken out
    #[arg(long, conflicts_with = "copy_to")]
    verify: bool,
    /// Copy the whole daybook to an empty one: a file, or `postgresql://…` as `CLEDGER_DAYBOOK` has it
    #[arg(long, value_name = "PLACE", conflicts_with = "pattern")]
    copy_to: Option<String>,
}

pub(crate) fn run(args: &HistoryArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let pattern = args.pattern.as_deref().map(Pattern::parse).transpose()?;
    let opened = app.open(&Scope::Units(BTreeSet::new()))?;
    if let Some(place) = &args.copy_to {
        return Ok(app.show(&Copied { records: copy(&opened, place)? }));
    }
    if args.verify {
        return Ok(app.show(&verified(&opened)?));
    }
    Ok(app.show(&history(&opened, pattern.as_ref(), args.last)?))
}

/// A daybook that was copied whole.
struct Copied {
    records: usize,
}

impl Shown for Copied {
    fn print(&self, console: &mut Console) {
        console.line(format!("Copied {}, and the copy is whole.", counted(self.records, "record")));
    }

    fn document(&self) -> impl Serialize {
        json::history::copied(self.records)
    }
}
