//! `cledger trace`: where a value comes from, step by step.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::model::Ledger;
use cledger_work::Trouble;
use cledger_work::meant::field_address;
use cledger_work::show::{named, shown};
use cledger_work::trace::{Traced, trace};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::options::LookOptions;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct TraceArgs {
    /// The field, such as ticket-desk/fare_service@test
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    #[command(flatten)]
    look: LookOptions,
}

pub(crate) fn run(args: &TraceArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let address = field_address(&app.at, &args.address, args.look.stage.as_ref())?;
    named(&address)?;
    let opened = app.open_partly(&args.look.scope(&app.at, &address)?)?;
    let shown = shown(&opened, &address)?;
    let stage = shown.chosen.stage;
    let (unmask, assumptions) = args.look.read(&opened.ledger, stage)?;
    let resolver = opened.assuming(&assumptions);
    let traced = shown.fields.iter().map(|&field| trace(&resolver, field)).collect();
    let status = app.show(&View { ledger: &opened.ledger, traced, unmask });
    opened.tell_unread();
    Ok(status)
}

/// The fields that were followed.
struct View<'l> {
    ledger: &'l Ledger,
    traced: Vec<Traced<'l>>,
    unmask: bool,
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        text::trace::print(console, self.ledger, &self.traced, self.unmask);
    }

    fn document(&self) -> impl Serialize {
        json::trace::document(self.ledger, &self.traced, self.unmask)
    }
}
