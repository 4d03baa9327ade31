//! `cledger fill`: the values that a stage lacks.

use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_work::Trouble;
use cledger_work::fill::{ToFill, fill};
use cledger_work::meant::address;

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions};

#[derive(Debug, Args)]
pub(crate) struct FillArgs {
    /// The stage, as @STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "@STAGE")]
    stage: String,
    /// Only these units or instances (patterns)
    #[arg(value_name = "UNIT", value_delimiter = ',')]
    units: Vec<String>,
    /// Take the values from this form, and write it where it is not there yet; without it, each is asked for at a
    /// terminal
    #[arg(long, value_name = "FILE")]
    answers: Option<PathBuf>,
    /// Let secrets stand in plain text where the stage has no key
    #[arg(long)]
    plain_secrets: bool,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &FillArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let asked = ToFill {
        stage: address(&args.stage, None)?,
        units: args.units.clone(),
        answers: args.act.form(args.answers.as_ref()),
        plain_secrets: args.plain_secrets,
        consent: args.change.consent(),
        write: args.act.writes(),
    };
    Ok(app.show(&fill(&app.change(&args.change.wait)?, &asked)?))
}
