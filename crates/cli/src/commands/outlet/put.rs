//! `cledger outlet put`: one unit brought to the outlets of a stage beside the usual way.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::meant::address;
use cledger_work::outlet::put::put;

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions, EditOptions};

#[derive(Debug, Args)]
pub(crate) struct PutArgs {
    /// What to bring: UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The stage, where the address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    edits: EditOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(super) fn run(args: &PutArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let address = address(&args.address, args.stage.as_ref())?;
    let opened = app.open(&Scope::Whole)?;
    let put = put(&opened, &address, &args.edits.edits(), &args.change.consent(), args.act.writes())?;
    Ok(app.show(&put))
}
