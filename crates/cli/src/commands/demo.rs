//! `cledger demo`: the demo ledger with a pretend live system, and a walk through the work.

use std::path::PathBuf;

use clap::Args;
use cledger_work::{Trouble, trust_own};

use crate::app::App;
use crate::demo::{files, go_on, stand_in, walk};
use crate::exit;
use crate::options::DryRunOptions;
use crate::output::text::change::ONLY_SHOWN;

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// The folder to write to; it must not exist yet
    #[arg(default_value = "brackwater-demo")]
    dir: PathBuf,
    /// Write the files, and leave the walk out
    #[arg(long)]
    files_only: bool,
    /// Keep the stand-in for the boards' service running, also for a demo that was written before
    #[arg(long)]
    serve: bool,
    #[command(flatten)]
    dry_run: DryRunOptions,
}

pub(crate) fn run(args: &DemoArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if app.console.is_json() {
        return Err(Trouble::usage("the demo is a walk for people, and has no JSON document")
            .help("add --json to the commands that it shows"));
    }
    let dir = &args.dir;
    if args.serve && stand_in::is_there(dir) {
        return stand_in::serve(&stand_in::start(dir)?, app.console);
    }
    if dir.symlink_metadata().is_ok() {
        let message = format!("`{}` is there already, and the demo writes over nothing", dir.display());
        return Err(Trouble::usage(message).help("name another folder: cledger demo DIR"));
    }
    if args.dry_run.is_given {
        app.console
            .line(format!("Would write the demo to {}, and walk through the work there.", dir.display()));
        app.console.line(ONLY_SHOWN);
        return Ok(exit::CLEAN);
    }
    files::write(dir)?;
    let ledger = dir.join("ledger");
    trust_own(&app.at, &ledger);
    app.console.line(format!(
        "The demo is in {}: a ledger, a strongroom, a pretend live system, and files from before.",
        dir.display()
    ));
    let standin = if args.files_only && !args.serve { None } else { Some(stand_in::start(dir)?) };
    if !args.files_only {
        walk::walk(&ledger, app.console)?;
    }
    go_on::tell(&ledger, app.console);
    match standin {
        Some(standin) if args.serve => stand_in::serve(&standin, app.console),
        _ => Ok(exit::CLEAN),
    }
}
