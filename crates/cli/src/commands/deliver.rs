//! `cledger deliver`: a unit, or all of a stage, brought to the stage's outlets, and recorded.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::deliver::{ToDeliver, deliver};
use cledger_work::meant::{address, refuse_entry};

use crate::app::App;
use crate::complete;
use crate::options::ChangeOptions;

#[derive(Debug, Args)]
pub(crate) struct DeliverArgs {
    /// What to deliver: UNIT[+INSTANCE]@STAGE, or @STAGE for all that belongs there
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "ADDRESS")]
    address: String,
    /// The stage, where the address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Deliver; without it is only shown what would change
    #[arg(long)]
    write: bool,
    /// Bring the content of this delivery again, as a new one
    #[arg(long, value_name = "NUMBER")]
    again: Option<u64>,
    /// Bring these fields alone, as ENTRY or ENTRY.FIELD; the rest stays as it was delivered last
    #[arg(long, value_name = "PATTERN", conflicts_with = "again")]
    only: Vec<String>,
    /// Make the reason of what changes: fields by name, without values
    #[arg(long, conflicts_with = "why")]
    draft_why: bool,
    /// Do not ask whether the stages before had a delivery of the same contract; needs a reason
    #[arg(long)]
    skip_stages: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &DeliverArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let address = address(&args.address, args.stage.as_ref())?;
    refuse_entry(&address, "delivered")?;
    let asked = ToDeliver {
        owners: address.owner.into_iter().collect(),
        stage: address.stage,
        again: args.again,
        only: args.only.clone(),
        draft_why: args.draft_why,
        skip_stages: args.skip_stages,
        consent: args.change.consent(),
        write: args.write,
    };
    Ok(app.show(&deliver(&app.open(&Scope::Whole)?, &asked)?))
}
