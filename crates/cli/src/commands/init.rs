//! `cledger init`: a small new ledger with comments that teach.

use std::path::PathBuf;

use clap::Args;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::init::{Made, NewLedger, init};
use serde::Serialize;

use crate::app::App;
use crate::options::DryRunOptions;
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
    /// What a stage is for whose name does not tell it: development, test or production
    #[arg(long = "class", value_delimiter = ',', value_name = "STAGE=CLASS")]
    classes: Vec<String>,
    /// Without an example in it
    #[arg(long)]
    empty: bool,
    #[command(flatten)]
    dry_run: DryRunOptions,
}

pub(crate) fn run(args: &InitArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let new = NewLedger {
        name: args.name.clone(),
        stages: args.stages.clone(),
        classes: args.classes.clone(),
        empty: args.empty,
        dry_run: args.dry_run.is_given,
    };
    let made = init(&app.at, &args.dir, &new)?;
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
