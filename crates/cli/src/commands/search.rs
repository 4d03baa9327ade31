//! `cledger search`: settings, defaults and effective values, by what they are and say.

use clap::Args;
use cledger_core::resolve::Resolver;
use cledger_core::search;
use cledger_store::Scope;

use crate::app::App;
use crate::conditions::ConditionOptions;
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct SearchArgs {
    #[command(flatten)]
    conditions: ConditionOptions,
    /// Search what units get in the end, and not what is written
    #[arg(long)]
    effective: bool,
}

pub(crate) fn run(args: &SearchArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let conditions = args.conditions.read()?;
    let (root, ledger) = app.open(&Scope::Whole)?;
    let outside = app.unfetched(&root);
    let console = &mut *app.console;
    if args.effective {
        let resolver = Resolver::new(&ledger, &outside, &[]);
        let found = search::effective(&resolver, &conditions);
        if console.is_json() {
            console.document(&json::search::effective(&ledger, &found));
        } else {
            text::search::effective(console, &ledger, &found);
        }
        app.tell_unread(&outside);
        return Ok(status::CLEAN);
    }
    let found = search::settings(&ledger, &outside, &conditions);
    if console.is_json() {
        console.document(&json::search::settings(&ledger, &found));
    } else {
        text::search::settings(console, &ledger, &found);
    }
    app.tell_unread(&outside);
    Ok(status::CLEAN)
}
