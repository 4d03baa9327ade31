//! `cledger chores`: what a person must do around deliveries, and that it was done.

use clap::{Args, Subcommand};
use clap_complete::ArgValueCompleter;
use cledger_core::address::Pattern;
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::deliver::chores::{chores, done};

use crate::app::App;
use crate::complete;
use crate::options::DryRunOptions;

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct ChoresArgs {
    #[command(subcommand)]
    command: Option<ChoresCommand>,
    /// Whose: @STAGE, UNIT@STAGE, patterns of these, or bundle:NAME@STAGE; all if not given
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "PATTERN", value_delimiter = ',')]
    patterns: Vec<String>,
}

#[derive(Debug, Subcommand)]
enum ChoresCommand {
    /// Say that a chore was done; it is recorded in the daybook
    Done(DoneArgs),
}

#[derive(Debug, Args)]
struct DoneArgs {
    /// Of which unit: UNIT[+INSTANCE]@STAGE, or a pattern of these, each of which has it done
    #[arg(value_name = "UNIT@STAGE", add = ArgValueCompleter::new(complete::address))]
    pattern: String,
    /// The chore, or the beginning of its text
    text: String,
    #[command(flatten)]
    dry_run: DryRunOptions,
}

pub(crate) fn run(args: &ChoresArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if let Some(ChoresCommand::Done(args)) = &args.command {
        let pattern = Pattern::parse(&args.pattern)?;
        let done = done(&app.open_partly(&Scope::Whole)?, &pattern, &args.text, !args.dry_run.is_given)?;
        return Ok(app.show(&done));
    }
    let open = chores(&app.open_partly(&Scope::Whole)?, &args.patterns)?;
    Ok(app.show(&open))
}
