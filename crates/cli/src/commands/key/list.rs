//! `cledger key list`: who may read what.

use clap::Args;
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::keys::{Compared, Listed, compare, list};
use serde::Serialize;

use crate::app::App;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ListArgs {
    /// Show each key as it was last seen here, and as it is now
    #[arg(long)]
    compare: bool,
}

pub(super) fn run(args: &ListArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let opened = app.open(&Scope::Whole)?;
    Ok(if args.compare { app.show(&compare(&opened)) } else { app.show(&list(&opened)?) })
}

impl Shown for Vec<Listed> {
    fn print(&self, console: &mut Console) {
        text::key::listed(console, self);
    }

    fn document(&self) -> impl Serialize {
        json::key::listed(self)
    }
}

impl Shown for Vec<Compared> {
    fn print(&self, console: &mut Console) {
        text::key::compared(console, self);
    }

    fn document(&self) -> impl Serialize {
        json::key::compared(self, None)
    }
}
