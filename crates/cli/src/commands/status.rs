//! `cledger status`: each unit on its way through the stages, and what is waiting.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::deliver::status::{Status, status};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct StatusArgs {
    /// Which units, as patterns, or bundle:NAME; all if not given
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "UNIT", value_delimiter = ',')]
    units: Vec<String>,
    /// Look at the outlets, too, and say what has drifted
    #[arg(long)]
    live: bool,
    /// Show only what is to be done first, as commands
    #[arg(long)]
    todo: bool,
}

pub(crate) fn run(args: &StatusArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    // What is at the outlets is told by all that belongs there.
    let opened = if args.live { app.open(&Scope::Whole)? } else { app.open_partly(&Scope::Whole)? };
    let status = status(&opened, &args.units, args.live)?;
    Ok(app.show(&View { status, todo: args.todo }))
}

/// How units stand, and what is to be done, or that alone.
struct View {
    status: Status,
    todo: bool,
}

impl Shown for View {
    fn print(&self, console: &mut Console) {
        text::status::print(console, &self.status, self.todo);
    }

    fn document(&self) -> impl Serialize {
        json::status::document(&self.status, self.todo)
    }
}
