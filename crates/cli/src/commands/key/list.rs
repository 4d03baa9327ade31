//! `cledger key list`: who may read what.

use clap::Args;
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::keys::{compare, list};

use crate::app::App;

#[derive(Debug, Args)]
pub(crate) struct ListArgs {
    /// Show each key as it was last seen here, and as it is now
    #[arg(long)]
    compare: bool,
}

pub(super) fn run(args: &ListArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let opened = app.open_partly(&Scope::Whole)?;
    Ok(if args.compare { app.show(&compare(&opened)) } else { app.show(&list(&opened)?) })
}
