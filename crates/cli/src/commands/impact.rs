//! `cledger impact`: everything that depends on a value.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::impact::{Cause, Written, impact};
use cledger_core::name::Name;
use cledger_core::resolve::{Resolver, Unfetched};
use cledger_store::{Scope, Target};

use crate::app::App;
use crate::complete;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::place::place;

#[derive(Debug, Args)]
pub(crate) struct ImpactArgs {
    /// The value, such as shared/bookings-db.host@test; a group or @default may stand for the stage
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The stage or group, where the address names none
    #[arg(add = ArgValueCompleter::new(complete::stage), long, value_name = "STAGE")]
    stage: Option<Name>,
}

pub(crate) fn run(args: &ImpactArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let (_, ledger) = app.open(&Scope::Whole)?;
    let place = place(app, &ledger, &args.address, args.stage.as_ref())?;
    let written = match place.target {
        Target::Layer(layer) => Written::In(layer),
        Target::Default => Written::Default,
    };
    let resolver = Resolver::new(&ledger, &Unfetched, &[]);
    let cause = Cause { subject: place.subject, slot: place.slot, written };
    let affected = impact(&resolver, cause);
    if let Target::Layer(layer) = place.target
        && ledger.setting_at(layer, place.subject, place.slot).is_none()
    {
        app.console
            .notice(&format!("{} is not set there: what follows counts its effective value", place.address));
    }
    if app.console.is_json() {
        app.console.document(&json::impact::document(&ledger, &place.address, &affected));
    } else {
        text::impact::print(app.console, &ledger, &place.address, &affected);
    }
    Ok(status::CLEAN)
}
