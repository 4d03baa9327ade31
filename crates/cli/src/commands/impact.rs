//! `cledger impact`: everything that depends on a value.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::impact::impact;

use crate::app::App;
use crate::complete;

#[derive(Debug, Args)]
pub(crate) struct ImpactArgs {
    /// The value, such as shared/bookings-db.host@test; a group or @default may stand for the stage
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The stage or group, where the address names none
    #[arg(add = ArgValueCompleter::new(complete::stage), long, value_name = "STAGE")]
    stage: Option<Name>,
}

pub(crate) fn run(args: &ImpactArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let opened = app.open(&Scope::Whole)?;
    Ok(app.show(&impact(&opened, &args.address, args.stage.as_ref())?))
}
