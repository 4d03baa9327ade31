//! `cledger impact`: everything that depends on a value.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::impact::{Affected, Cause, Written, impact};
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::resolve::{Resolver, Unfetched};
use cledger_store::{Scope, Target};
use cledger_work::Trouble;
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ImpactArgs {
    /// The value, such as shared/bookings-db.host@test; a group or @default may stand for the stage
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The stage or group, where the address names none
    #[arg(add = ArgValueCompleter::new(complete::stage), long, value_name = "STAGE")]
    stage: Option<Name>,
}

pub(crate) fn run(args: &ImpactArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let opened = app.open(&Scope::Whole)?;
    let (ledger, place) = (&*opened.ledger, opened.place(&args.address, args.stage.as_ref())?);
    let written = match place.target {
        Target::Layer(layer) => Written::In(layer),
        Target::Default => Written::Default,
    };
    let resolver = Resolver::new(ledger, &Unfetched, &[]);
    let affected = impact(&resolver, Cause { subject: place.subject, slot: place.slot, written });
    if let Target::Layer(layer) = place.target
        && ledger.setting_at(layer, place.subject, place.slot).is_none()
    {
        let address = &place.address;
        app.console.notice(&format!("{address} is not set there: what follows counts its effective value"));
    }
    Ok(app.show(&View { ledger, address: place.address, affected }))
}

/// What depends on a value.
struct View<'l> {
    ledger: &'l Ledger,
    address: Address,
    affected: Vec<Affected>,
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        text::impact::print(console, self.ledger, &self.address, &self.affected);
    }

    fn document(&self) -> impl Serialize {
        json::impact::document(self.ledger, &self.address, &self.affected)
    }
}
