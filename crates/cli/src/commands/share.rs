//! `cledger share`: a unit's entry becomes one that several units use.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::share::share;

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions};

#[derive(Debug, Args)]
pub(crate) struct ShareArgs {
    /// The entry, as UNIT/ENTRY
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// Other units that use it from now on; an entry of theirs with this name becomes this one
    #[arg(long, value_name = "UNIT", value_delimiter = ',')]
    with: Vec<Name>,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &ShareArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let address = Address::parse(&args.address)?;
    let shared = share(&app.change(&args.change.wait)?, &address, &args.with, args.act.writes())?;
    Ok(app.show(&shared))
}
