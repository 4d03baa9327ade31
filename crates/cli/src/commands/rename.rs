//! `cledger rename`: another name for something, wherever the ledger mentions it.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::rename::{ToRename, rename};

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions};

#[derive(Debug, Args)]
pub(crate) struct RenameArgs {
    /// A unit, UNIT+INSTANCE, UNIT/ENTRY, UNIT/ENTRY.FIELD, shared/ENTRY, or @STAGE or @GROUP
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The new name
    new_name: Name,
    /// Let names in rendered files change with it
    #[arg(long)]
    outputs: bool,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &RenameArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let address = Address::parse(&args.address)?;
    let changing = app.change(&args.change.wait)?;
    let asked = ToRename {
        address,
        to: args.new_name.clone(),
        outputs: args.outputs,
        consent: args.change.consent(),
        write: args.act.writes(),
    };
    let renamed = rename(&changing, &asked)?;
    Ok(app.show(&renamed))
}
