//! `cledger outlet`: where stages are delivered to and read back from.

mod list;
mod lookup;
mod prepare;
mod put;

pub(crate) use prepare::{Prepared, Preparing};

use clap::{Args, Subcommand};

use crate::app::App;
use crate::error::CliError;

#[derive(Debug, Args)]
pub(crate) struct OutletArgs {
    #[command(subcommand)]
    command: OutletCommand,
}

#[derive(Debug, Subcommand)]
enum OutletCommand {
    /// List outlets by stage, and say whether each answers and which units are there
    List(list::ListArgs),
    /// Make the tables of outlets of kind postgres, where they are not there yet
    Prepare(prepare::PrepareArgs),
    /// Find values that the other side assigns, and write them into the ledger
    Lookup(lookup::LookupArgs),
    /// Bring what one unit should have to the outlets of a stage, by hand
    Put(put::PutArgs),
}

/// An outlet in a stage.
pub(crate) struct Listed {
    pub(crate) name: String,
    pub(crate) kind: &'static str,
    pub(crate) stage: String,
    /// How many units and instances belong there.
    pub(crate) units: usize,
    /// How many of them are there.
    pub(crate) there: usize,
    /// When something was last delivered there, as the daybook has it.
    pub(crate) last: Option<String>,
    /// Why it does not answer, or not for all of them.
    pub(crate) trouble: Option<String>,
}

pub(crate) fn run(args: &OutletArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    match &args.command {
        OutletCommand::List(args) => list::run(args, app),
        OutletCommand::Prepare(args) => prepare::run(args, app),
        OutletCommand::Lookup(args) => lookup::run(args, app),
        OutletCommand::Put(args) => put::run(args, app),
    }
}
