//! `cledger outlet`: where stages are delivered to and read back from.

mod list;
mod lookup;
mod prepare;
mod put;

use clap::{Args, Subcommand};
use cledger_work::Trouble;

use crate::app::App;

#[derive(Debug, Args)]
pub(crate) struct OutletArgs {
    #[command(subcommand)]
    command: OutletCommand,
}

#[derive(Debug, Subcommand)]
enum OutletCommand {
    /// List outlets by stage, and say whether each answers and which units are there
    List(list::ListArgs),
    /// Make the tables of outlets that are databases, where they are not there yet
    Prepare(prepare::PrepareArgs),
    /// Find values that the other side assigns, and write them into the ledger
    Lookup(lookup::LookupArgs),
    /// Bring what one unit should have to the outlets of a stage, by hand
    Put(put::PutArgs),
}

pub(crate) fn run(args: &OutletArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    match &args.command {
        OutletCommand::List(args) => list::run(args, app),
        OutletCommand::Prepare(args) => prepare::run(args, app),
        OutletCommand::Lookup(args) => lookup::run(args, app),
        OutletCommand::Put(args) => put::run(args, app),
    }
}
