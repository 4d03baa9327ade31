//! `cledger init`: a small new ledger with comments that teach.

use std::path::PathBuf;

use clap::Args;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::init::{Made, init};
use serde::Serialize;

use crate::app::App;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct InitArgs {
    /// The folder of the new ledger
    dir: PathBuf,
    /// What the ledger is called
    #[arg(long)]
    name: String,
    /// The stages, in the order in which changes move up
    #[arg(long, value_delimiter = ',', value_name = "STAGE,…", default_value = "dev,test,prod")]
    stages: Vec<Name>,
}

pub(crate) fn run(args: &InitArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let made = init(&app.at, &args.dir, &args.name, &args.stages)?;
    Ok(app.show(&View { args, made }))
}

/// What was made, and where.
struct View<'a> {
    args: &'a InitArgs,
    made: Made,
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        text::init::print(console, &self.args.name, &self.args.dir, &self.made);
    }

    fn document(&self) -> impl Serialize {
        json::init::document(&self.made)
    }
}
