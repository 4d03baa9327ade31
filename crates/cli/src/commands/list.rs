//! `cledger list`: what the ledger has.

use std::collections::BTreeSet;

use clap::{Args, ValueEnum};
use cledger_core::model::Ledger;
use cledger_store::Scope;
use cledger_work::{Trouble, capture, routine};
use serde::Serialize;

use crate::app::App;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ListArgs {
    /// What to list
    #[arg(value_enum, default_value = "units")]
    what: What,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum What {
    /// The deployable units
    Units,
    /// The stages, in their order
    Stages,
    /// The groups of settings that stages share
    Groups,
    /// The entries that units share
    Shared,
    /// The bundles of units that go together
    Bundles,
    /// The captures in the ledger's folder `captures`
    Captures,
    /// The searches with their changes that are kept
    Routines,
}

pub(crate) fn run(args: &ListArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let scope = if matches!(args.what, What::Groups | What::Routines | What::Captures) {
        Scope::Units(BTreeSet::new())
    } else {
        Scope::Whole
    };
    let opened = app.open_partly(&scope)?;
    let ledger = &opened.ledger;
    let status = match args.what {
        What::Units => app.show(&Units(ledger)),
        What::Stages => app.show(&Stages(ledger)),
        What::Groups => app.show(&Groups(ledger)),
        What::Shared => app.show(&Shared(ledger)),
        What::Bundles => app.show(&Bundles(ledger)),
        What::Captures => app.show(&Captures(capture::list(&opened)?)),
        What::Routines => app.show(&Routines(routine::list(ledger)?)),
    };
    Ok(status)
}

struct Units<'l>(&'l Ledger);

impl Shown for Units<'_> {
    fn print(&self, console: &mut Console) {
        text::list::units(console, self.0);
    }

    fn document(&self) -> impl Serialize {
        json::list::units(self.0)
    }
}

struct Stages<'l>(&'l Ledger);

impl Shown for Stages<'_> {
    fn print(&self, console: &mut Console) {
        text::list::stages(console, self.0);
    }

    fn document(&self) -> impl Serialize {
        json::list::stages(self.0)
    }
}

struct Groups<'l>(&'l Ledger);

impl Shown for Groups<'_> {
    fn print(&self, console: &mut Console) {
        text::list::groups(console, self.0);
    }

    fn document(&self) -> impl Serialize {
        json::list::groups(self.0)
    }
}

struct Bundles<'l>(&'l Ledger);

impl Shown for Bundles<'_> {
    fn print(&self, console: &mut Console) {
        text::list::bundles(console, self.0);
    }

    fn document(&self) -> impl Serialize {
        json::list::bundles(self.0)
    }
}

struct Captures(Vec<capture::Listed>);

impl Shown for Captures {
    fn print(&self, console: &mut Console) {
        text::list::captures(console, &self.0);
    }

    fn document(&self) -> impl Serialize {
        json::list::captures(&self.0)
    }
}

struct Routines(Vec<routine::Listed>);

impl Shown for Routines {
    fn print(&self, console: &mut Console) {
        text::list::routines(console, &self.0);
    }

    fn document(&self) -> impl Serialize {
        json::list::routines(&self.0)
    }
}

struct Shared<'l>(&'l Ledger);

impl Shown for Shared<'_> {
    fn print(&self, console: &mut Console) {
        text::list::shared(console, self.0);
    }

    fn document(&self) -> impl Serialize {
        json::list::shared(self.0)
    }
}
