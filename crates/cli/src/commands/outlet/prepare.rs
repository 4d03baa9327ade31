//! `cledger outlet prepare`: the tables that outlets which are databases need.

use clap::Args;
use cledger_core::name::Name;
use cledger_store::Scope;
use cledger_work::outlet::prepare::{Prepared, Preparing, prepare};
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use crate::app::App;
use crate::options::ActOptions;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct PrepareArgs {
    /// The outlets; all with a table of a database if not given
    #[arg(value_name = "OUTLET", value_delimiter = ',')]
    outlets: Vec<Name>,
    #[command(flatten)]
    act: ActOptions,
}

pub(super) fn run(args: &PrepareArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let opened = app.open_partly(&Scope::Whole)?;
    let prepared = prepare(&opened, &args.outlets, args.act.writes())?;
    Ok(app.show(&View { prepared, written: args.act.writes() }))
}

struct View {
    prepared: Vec<Prepared>,
    written: bool,
}

impl Shown for View {
    fn print(&self, console: &mut Console) {
        text::outlet::prepared(console, &self.prepared, self.written);
    }

    fn document(&self) -> impl Serialize {
        json::outlet::prepared(&self.prepared, self.written)
    }

    fn kind(&self) -> Option<Kind> {
        let failed = |it: &Prepared| matches!(it.what, Preparing::Failed(_));
        self.prepared.iter().any(failed).then_some(Kind::Outside)
    }
}
