//! `cledger search`: settings, defaults and effective values, by what they are and say.

use clap::Args;
use cledger_core::model::Ledger;
use cledger_core::resolve::{Effective, FieldId, Resolver};
use cledger_core::search::{self, Found};
use cledger_store::Scope;
use cledger_work::Trouble;
use serde::Serialize;

use crate::app::App;
use crate::conditions::ConditionOptions;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct SearchArgs {
    #[command(flatten)]
    conditions: ConditionOptions,
    /// Search what units get in the end, and not what is written
    #[arg(long)]
    effective: bool,
}

pub(crate) fn run(args: &SearchArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let opened = app.open_partly(&Scope::Whole)?;
    let conditions = args.conditions.texts().read(&app.at, &opened.ledger)?;
    let (ledger, outside) = (&*opened.ledger, opened.unfetched());
    let status = if args.effective {
        let found = search::effective(&Resolver::new(ledger, &outside, &[]), &conditions);
        app.show(&EffectiveValues { ledger, found })
    } else {
        app.show(&Settings { ledger, found: search::settings(ledger, &outside, &conditions) })
    };
    opened.tell_unread_of(&outside);
    Ok(status)
}

/// Settings that were found.
struct Settings<'l> {
    ledger: &'l Ledger,
    found: Vec<Found<'l>>,
}

impl Shown for Settings<'_> {
    fn print(&self, console: &mut Console) {
        text::search::settings(console, self.ledger, &self.found);
    }

    fn document(&self) -> impl Serialize {
        json::search::settings(self.ledger, &self.found)
    }
}

/// Effective values that were found.
struct EffectiveValues<'l> {
    ledger: &'l Ledger,
    found: Vec<(FieldId, Effective<'l>)>,
}

impl Shown for EffectiveValues<'_> {
    fn print(&self, console: &mut Console) {
        text::search::effective(console, self.ledger, &self.found);
    }

    fn document(&self) -> impl Serialize {
        json::search::effective(self.ledger, &self.found)
    }
}
