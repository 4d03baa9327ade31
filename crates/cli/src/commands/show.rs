//! `cledger show`: what a unit gets in a stage, or what was delivered.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::resolve::Resolver;
use cledger_store::Scope;
use cledger_work::deliver::history::{Recorded, recorded};
use cledger_work::live_names::read_at;
use cledger_work::meant::with_stage;
use cledger_work::show::shown;
use cledger_work::{Opened, Trouble, show};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::options::LookOptions;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ShowArgs {
    /// The unit or a part of it, such as ticket-desk@test or ticket-desk+kiosk/events
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// Say in full where each value comes from
    #[arg(long)]
    origins: bool,
    #[command(flatten)]
    look: LookOptions,
}

pub(crate) fn run(args: &ShowArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let address = with_stage(read_at(&app.at, &args.address)?, args.look.stage.as_ref())?;
    if address.delivery.is_some() {
        return delivery(&address, args, app);
    }
    let opened = app.open_partly(&args.look.scope(&app.at, &address)?)?;
    let shown = shown(&opened, &address)?;
    let stage = shown.chosen.stage;
    let (unmask, assumptions) = args.look.read(&opened.ledger, stage)?;
    let resolver = opened.assuming(&assumptions);
    let status =
        app.show(&View { opened: &opened, resolver: &resolver, shown, unmask, origins: args.origins });
    opened.tell_unread();
    Ok(status)
}

/// What a unit gets.
pub(crate) struct View<'v> {
    pub(crate) opened: &'v Opened,
    pub(crate) resolver: &'v Resolver<'v>,
    pub(crate) shown: show::Shown,
    /// Whether secrets are shown.
    pub(crate) unmask: bool,
    /// Whether it is said in full where values come from.
    pub(crate) origins: bool,
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        let how = (self.unmask, self.origins);
        text::show::print(console, self.opened, self.resolver, &self.shown, how);
    }

    fn document(&self) -> impl Serialize {
        json::show::document(self.opened, self.resolver, &self.shown, self.unmask)
    }
}

/// A delivery as it was recorded.
fn delivery(address: &Address, args: &ShowArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let opened = app.open_partly(&Scope::Whole)?;
    let recorded = recorded(&opened, address)?;
    let stage = opened.stage(address.stage.as_ref())?.stage;
    let unmask = args.look.unmask.granted(&opened.ledger, stage)?;
    let status = app.show(&RecordedView { recorded, unmask });
    opened.tell_unread();
    Ok(status)
}

struct RecordedView {
    recorded: Recorded,
    unmask: bool,
}

impl Shown for RecordedView {
    fn print(&self, console: &mut Console) {
        text::show::delivery(console, &self.recorded, self.unmask);
    }

    fn document(&self) -> impl Serialize {
        json::show::delivery(&self.recorded, self.unmask)
    }
}
