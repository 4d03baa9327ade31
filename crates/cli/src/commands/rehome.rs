//! `cledger rehome`: an artifact exported from one stage, with the values of another.

use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_work::Trouble;
use cledger_work::meant::{address, scope_of};
use cledger_work::rehome::suggest::suggest;
use cledger_work::rehome::{ToRehome, rehome};

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, AssumeOptions, HandOutOptions};

#[derive(Debug, Args)]
pub(crate) struct RehomeArgs {
    /// The artifact: JSON, XML, any other text, or a zip archive of them
    file: PathBuf,
    /// Whose values are in it: UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), long, value_name = "ADDRESS")]
    from: String,
    /// Whose values take their places: UNIT[+INSTANCE]@STAGE
    #[arg(
        add = ArgValueCompleter::new(complete::address),
        long,
        value_name = "ADDRESS",
        required_unless_present = "suggest"
    )]
    to: Option<String>,
    /// Only list what in it looks as if it belonged to the stage, and is no value of the unit yet
    #[arg(long, conflicts_with_all = ["to", "only", "out", "answers", "write"])]
    suggest: bool,
    /// Only these fields (ENTRY or ENTRY.FIELD, a pattern), or only at and below a place (/JSON/POINTER)
    #[arg(long, value_name = "FIELD|PLACE", value_delimiter = ',')]
    only: Vec<String>,
    /// Write to this file instead of the artifact itself
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Write over a file that is there
    #[arg(long, requires = "out")]
    overwrite: bool,
    /// Take values that the second stage lacks from this form, and write it where it is not there yet
    #[arg(long, value_name = "FILE")]
    answers: Option<PathBuf>,
    #[command(flatten)]
    assume: AssumeOptions,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    hand_out: HandOutOptions,
}

pub(crate) fn run(args: &RehomeArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let from = address(&args.from, None)?;
    let Some(to) = args.to.as_ref().filter(|_| !args.suggest) else {
        let opened = app.open(&scope_of([&from]))?;
        return Ok(app.show(&suggest(&opened, &args.file, &from)?));
    };
    let asked = ToRehome {
        file: args.file.clone(),
        from,
        to: address(to, None)?,
        only: args.only.clone(),
        out: args.out.clone(),
        overwrite: args.overwrite,
        answers: args.act.form(args.answers.as_ref()),
        countersign: args.hand_out.countersign.clone(),
        write: args.act.writes(),
    };
    let opened = app.open(&args.assume.scope([&asked.from, &asked.to])?)?;
    let stage = opened.told_stage(asked.to.stage.as_ref())?;
    let assumptions = args.assume.read(&opened.ledger, stage)?;
    Ok(app.show(&rehome(&opened, &assumptions, &asked)?))
}
