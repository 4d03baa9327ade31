//! `cledger history`: what was delivered where, when, by whom and why.

use std::collections::BTreeSet;
use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Pattern};
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::deliver::history::{copy, history, verified};
use cledger_work::deliver::overwritten::{bring_back, overwritten};
use cledger_work::meant::scope_of;
use cledger_work::shown::counted;
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions};
use crate::output::console::Console;
use crate::output::json;
use crate::output::shown::Shown;

#[derive(Debug, Args)]
#[command(mut_arg("write", |arg| arg.requires("bring_back")))]
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
    /// Show what a delivery, UNIT@STAGE:NUMBER, has overwritten that was not ours
    #[arg(long, conflicts_with_all = ["verify", "copy_to"], requires = "pattern")]
    overwritten: bool,
    /// Write what was overwritten to files in this folder, for you alone
    #[arg(long, value_name = "DIR", requires = "overwritten")]
    out: Option<PathBuf>,
    /// Bring what was overwritten back to the outlets
    #[arg(long, requires = "overwritten", conflicts_with = "out")]
    bring_back: bool,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    change: ChangeOptions,
    /// Copy the whole daybook to an empty one: a file, or `postgresql://…` as `CLEDGER_DAYBOOK` has it
    #[arg(long, value_name = "PLACE", conflicts_with = "pattern")]
    copy_to: Option<String>,
}

pub(crate) fn run(args: &HistoryArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if args.overwritten {
        let address = Address::parse(args.pattern.as_deref().unwrap_or_default())?;
        let opened = app.open_partly(&Scope::Whole)?;
        if args.bring_back {
            return Ok(app.show(&bring_back(&opened, &address, &args.change.consent(), args.act.writes())?));
        }
        return Ok(app.show(&overwritten(&opened, &address, args.out.as_deref())?));
    }
    let pattern = args.pattern.as_deref().map(Pattern::parse).transpose()?;
    // A unit may have had another name, which its contract tells.
    let named = args.pattern.as_deref().and_then(|pattern| Address::parse(pattern).ok());
    let scope = match (&args.pattern, named) {
        (Some(_), Some(named)) if named.owner.is_some() => scope_of([&named]),
        // Whether a pattern covers units shows only where all are read.
        (Some(_), None) => Scope::Whole,
        _ => Scope::Units(BTreeSet::new()),
    };
    let opened = app.open_partly(&scope)?;
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
