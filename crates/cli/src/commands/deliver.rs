//! `cledger deliver`: a unit, or all of a stage, brought to the stage's outlets, and recorded.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::deliver::dropping::drop_open;
use cledger_work::deliver::{AT_ONCE, Settle, ToDeliver, deliver};
use cledger_work::whole_units::WholeUnits;
use jiff::Timestamp;

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions, EditOptions, moment};

#[derive(Debug, Args)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option that is given or not")]
pub(crate) struct DeliverArgs {
    /// What to deliver: UNIT[+INSTANCE]@STAGE, patterns of units, bundle:NAME@STAGE, or @STAGE for all that belongs there
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "UNIT@STAGE", value_delimiter = ',', required = true)]
    what: Vec<String>,
    /// The stage, where none is named with the units
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    #[command(flatten)]
    act: ActOptions,
    /// Bring the content of this delivery again, as a new one
    #[arg(long, value_name = "NUMBER")]
    again: Option<u64>,
    /// Bring what was there at this time again: YYYY-MM-DDTHH:MM, UTC unless an offset is given
    #[arg(long, value_name = "TIME", value_parser = moment, conflicts_with_all = ["again", "only", "finish", "put_back", "drop"])]
    again_at: Option<Timestamp>,
    /// Bring the rest of the last delivery, which came to a part of its outlets only
    #[arg(long, conflicts_with_all = ["again", "only", "put_back"])]
    finish: bool,
    /// Bring back what was there before the last delivery, which came to a part of its outlets only
    #[arg(long, conflicts_with_all = ["again", "only"])]
    put_back: bool,
    /// Give up what was left open of this unit, whether the ledger knows it or not
    #[arg(long, conflicts_with_all = ["again", "only", "finish", "put_back"])]
    drop: bool,
    /// Bring these fields alone, as ENTRY or ENTRY.FIELD; the rest stays as it was delivered last
    #[arg(long, value_name = "PATTERN", value_delimiter = ',', conflicts_with = "again")]
    only: Vec<String>,
    /// Make the reason of what changes: fields by name, without values
    #[arg(long, conflicts_with = "why")]
    draft_why: bool,
    /// Do not ask whether the stages before had a delivery of the same contract; needs a reason
    #[arg(long)]
    skip_stages: bool,
    /// Bring so many units at once
    #[arg(long, value_name = "COUNT", default_value_t = AT_ONCE)]
    at_once: usize,
    /// Begin no other one once a delivery has failed
    #[arg(long)]
    stop_at_failure: bool,
    /// Agree to these fields not being as they were delivered to the stages before, as ENTRY or
    /// ENTRY.FIELD; needs a reason
    #[arg(long, value_name = "FIELD", value_delimiter = ',', requires = "why")]
    untested: Vec<String>,
    /// Deliver although what was delivered last is not merged here; needs a reason
    #[arg(long)]
    not_merged: bool,
    #[command(flatten)]
    edits: EditOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &DeliverArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let what = WholeUnits::parse(&args.what, args.stage.as_ref(), "delivered")?.without_delivery()?;
    let opened = app.open_for(&what)?;
    if args.drop {
        let address = Address::of_owner(what.only_one().cloned(), what.stage.as_ref());
        return Ok(app.show(&drop_open(&opened, &address, &args.change.consent(), args.act.writes())?));
    }
    let asked = ToDeliver {
        what,
        edits: args.edits.edits(),
        again: args.again,
        again_at: args.again_at,
        settle: match (args.finish, args.put_back) {
            (true, _) => Some(Settle::Finish),
            (_, true) => Some(Settle::PutBack),
            _ => None,
        },
        only: args.only.clone(),
        draft_why: args.draft_why,
        skip_stages: args.skip_stages,
        at_once: args.at_once,
        stop_at_failure: args.stop_at_failure,
        untested: args.untested.clone(),
        not_merged: args.not_merged,
        consent: args.change.consent(),
        write: args.act.writes(),
        ..ToDeliver::all_of(None)
    };
    Ok(app.show(&deliver(&opened, &asked)?))
}
