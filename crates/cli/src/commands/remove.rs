//! `cledger remove`: something goes, with the settings that are made for it.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::address::AddressError;
use cledger_work::Trouble;
use cledger_work::remove::remove;

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions};

#[derive(Debug, Args)]
pub(crate) struct RemoveArgs {
    /// What goes: units, UNIT+INSTANCE, UNIT/ENTRY, UNIT/ENTRY.FIELD, shared/ENTRY, @STAGE or @GROUP
    #[arg(required = true, value_name = "ADDRESS", add = ArgValueCompleter::new(complete::address))]
    addresses: Vec<String>,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &RemoveArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let parsed = args.addresses.iter().map(|text| Address::parse(text));
    let addresses: Vec<Address> = parsed.collect::<Result<_, AddressError>>()?;
    let removed =
        remove(&app.change(&args.change.wait)?, &addresses, &args.change.consent(), args.act.writes())?;
    Ok(app.show(&removed))
}
