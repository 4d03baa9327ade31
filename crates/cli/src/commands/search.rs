//! `cledger search`: settings, defaults and effective values, by what they are and say.

use clap::Args;
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::resolve::{Effective, FieldId, Resolver};
use cledger_core::search::{self, Found};
use cledger_store::Scope;
use cledger_work::conditions::SearchTexts;
use cledger_work::{Trouble, routine};
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
    /// Search for what was kept under this name
    #[arg(long, value_name = "NAME")]
    routine: Option<Name>,
    /// What it leaves open
    #[arg(long, value_name = "NAME=VALUE", requires = "routine")]
    with: Vec<String>,
}

pub(crate) fn run(args: &SearchArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let opened = app.open_partly(&Scope::Whole)?;
    let typed = args.conditions.texts();
    let texts = match &args.routine {
        Some(name) if typed != SearchTexts::default() => {
            let message = format!("routine `{name}` says what to search");
            return Err(Trouble::usage(message).help("leave the other conditions out"));
        }
        Some(name) => routine::search(&opened.ledger, name, &args.with)?,
        None => typed,
    };
    let conditions = texts.read(&app.at, &opened.ledger)?;
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
