//! `cledger folio`: units carried to another ledger.

mod enter;
mod make;
mod show;

use clap::{Args, Subcommand};
use cledger_work::Trouble;

use crate::app::App;

#[derive(Debug, Args)]
pub(crate) struct FolioArgs {
    #[command(subcommand)]
    what: What,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Make a folio of units and bundles, with all that they are made of
    Make(make::MakeArgs),
    /// Show what is inside of a folio
    Show(show::ShowArgs),
    /// Take a folio into this ledger
    Enter(Box<enter::EnterArgs>),
}

pub(crate) fn run(args: &FolioArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    match &args.what {
        What::Make(args) => make::run(args, app),
        What::Show(args) => show::run(args, app),
        What::Enter(args) => enter::run(args, app),
    }
}
