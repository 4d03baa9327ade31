//! `cledger history`: what was delivered where, when, by whom and why.

use std::collections::BTreeSet;
use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
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
    /// Whose: UNIT@STAGE, UNIT, @STAGE, patterns of these, or bundle:NAME@STAGE; everything if not given
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "PATTERN", value_delimiter = ',')]
    patterns: Vec<String>,
    /// Show the last so many
    #[arg(long, value_name = "COUNT", default_value_t = 20)]
    last: usize,
    /// Prove that no record was changed, put in or taken out
    #[arg(long, conflicts_with = "copy_to")]
    verify: bool,
    /// Show what a delivery, UNIT@STAGE:NUMBER, has overwritten that was not ours
    #[arg(long, conflicts_with_all = ["verify", "copy_to"], requires = "patterns")]
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
    #[arg(long, value_name = "PLACE", conflicts_with = "patterns")]
    copy_to: Option<String>,
}

pub(crate) fn run(args: &HistoryArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if args.overwritten {
        let [named] = &args.patterns[..] else {
            return Err(Trouble::usage("one delivery is meant").help("write UNIT@STAGE:NUMBER"));
        };
        let address = Address::parse(named)?;
        let opened = app.open_partly(&Scope::Whole)?;
        if args.bring_back {
            return Ok(app.show(&bring_back(&opened, &address, &args.change.consent(), args.act.writes())?));
        }
        return Ok(app.show(&overwritten(&opened, &address, args.out.as_deref())?));
    }
    // A unit may have had another name, which its contract tells.
    let named: Vec<Option<Address>> = args.patterns.iter().map(|text| Address::parse(text).ok()).collect();
    // Whether a pattern covers units shows only where all are read.
    let is_alone = |named: &Option<Address>| named.as_ref().is_some_and(|named| named.owner.is_some());
    let is_stage = |named: &Option<Address>| named.as_ref().is_some_and(|named| named.owner.is_none());
    let scope = if named.iter().all(is_stage) {
        Scope::Units(BTreeSet::new())
    } else if named.iter().all(is_alone) {
        scope_of(named.iter().flatten())
    } else {
        Scope::Whole
    };
    let opened = app.open_partly(&scope)?;
    if let Some(place) = &args.copy_to {
        return Ok(app.show(&Copied { records: copy(&opened, place)? }));
    }
    if args.verify {
        return Ok(app.show(&verified(&opened)?));
    }
    Ok(app.show(&history(&opened, &args.patterns, args.last)?))
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
