//! `cledger resume`: a change of the ledger that was interrupted, to be finished or put back.

use std::time::Duration;

use clap::Args;
use cledger_store::{Folder, Glance, Interrupted, Locked, NoPlan, OpenChange, Since};

use crate::app::App;
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ResumeArgs {
    /// Finish the change; files that were edited since stay as they are
    #[arg(long, conflicts_with = "put_back")]
    finish: bool,
    /// Put everything back as it was before the change; files that were edited since stay as they are
    #[arg(long)]
    put_back: bool,
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    /// Wait so many seconds at most for somebody else who is changing the ledger
    #[arg(long, value_name = "SECONDS", default_value_t = 10)]
    wait: u64,
}

/// An open change, and what becomes of it.
pub(crate) struct Resumed {
    pub(crate) change: OpenChange,
    pub(crate) how: Option<Interrupted>,
    pub(crate) written: bool,
}

impl Resumed {
    /// What becomes of a file.
    pub(crate) fn word(&self, since: Since) -> &'static str {
        match (since, self.how) {
            (Since::Edited, _) => "edited since",
            (Since::AsBefore, Some(Interrupted::PutBack))
            | (Since::AsAfter, Some(Interrupted::FinishRest)) => "stays",
            (Since::AsBefore, None) => "not made yet",
            (Since::AsAfter, None) => "made",
            (_, Some(_)) if !self.written => "would be written",
            (_, Some(_)) => "written",
        }
    }
}

pub(crate) fn run(args: &ResumeArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let root = app.root()?;
    let how = match (args.finish, args.put_back) {
        (true, _) => Some(Interrupted::FinishRest),
        (_, true) => Some(Interrupted::PutBack),
        _ => None,
    };
    if args.write && how.is_none() {
        let message = "nothing says what becomes of the change";
        return Err(CliError::usage(message).help("add --finish or --put-back"));
    }
    let change = match how.filter(|_| args.write) {
        Some(how) => Locked::settle(&root, Duration::from_secs(args.wait), how)?.settled().cloned(),
        None => seen(&root)?,
    };
    let resumed = change.map(|change| Resumed { change, how, written: args.write });
    if app.console.is_json() {
        app.console.document(&json::resume::document(resumed.as_ref()));
    } else {
        text::resume::print(app.console, resumed.as_ref());
    }
    Ok(status::CLEAN)
}

/// The change that is open, as whoever reads finds it.
fn seen(root: &std::path::Path) -> Result<Option<OpenChange>, CliError> {
    let folder = Folder::open(root).map_err(|error| CliError::outside(error.to_string()))?;
    let glance = Glance::at(&folder);
    if let Some(foreign) = glance.foreign {
        return Err(CliError::refused(foreign.to_string()).help(foreign.help()));
    }
    let open = glance.open.transpose();
    open.map_err(|no_plan| CliError::refused(no_plan.to_string()).help(NoPlan::HELP))
}
