//! `cledger resume`: a change of the ledger that was interrupted, to be finished or put back.

use clap::Args;
use cledger_store::Interrupted;
use cledger_work::Trouble;
use cledger_work::resume::resume;

use crate::app::App;
use crate::options::{ActOptions, WaitOptions};

#[derive(Debug, Args)]
pub(crate) struct ResumeArgs {
    /// Finish the change; files that were edited since stay as they are
    #[arg(long, conflicts_with = "put_back")]
    finish: bool,
    /// Put everything back as it was before the change; files that were edited since stay as they are
    #[arg(long)]
    put_back: bool,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    wait: WaitOptions,
}

pub(crate) fn run(args: &ResumeArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let how = match (args.finish, args.put_back) {
        (true, _) => Some(Interrupted::FinishRest),
        (_, true) => Some(Interrupted::PutBack),
        _ => None,
    };
    let resumed = resume(&app.at, how, args.wait.time(), args.act.writes())?;
    Ok(app.show(&resumed))
}
