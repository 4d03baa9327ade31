//! `cledger remove`: something goes, with the settings that are made for it.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_work::Trouble;
use cledger_work::remove::{ToRemove, remove};

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions};

#[derive(Debug, Args)]
pub(crate) struct RemoveArgs {
    /// What goes: UNIT, UNIT+INSTANCE, UNIT/ENTRY, UNIT/ENTRY.FIELD, shared/ENTRY, @STAGE, @GROUP, outlet:NAME, rule:NAME,
    /// routine:NAME, bundle:NAME, output:UNIT/PATH, probe:UNIT/NAME, chore:UNIT/TEXT, chore:@STAGE/TEXT, follow:STAGE/FOLLOWED, aligned:STAGE,STAGE,
    /// use:UNIT/ENTRY
    #[arg(required = true, value_name = "WHAT", add = ArgValueCompleter::new(complete::address))]
    what: Vec<String>,
    /// Take along what mentions it: in `after`, `uses`, outlets, rules, waivers and the like
    #[arg(long)]
    with_mentions: bool,
    /// Leave what is still delivered where it is
    #[arg(long)]
    keep_delivered: bool,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &RemoveArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let asked = ToRemove {
        what: args.what.clone(),
        with_mentions: args.with_mentions,
        keep_delivered: args.keep_delivered,
        consent: args.change.consent(),
        write: args.act.writes(),
    };
    let removed = remove(&app.change(&args.change.wait)?, &asked)?;
    Ok(app.show(&removed))
}
