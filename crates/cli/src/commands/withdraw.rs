//! `cledger withdraw`: what was delivered, taken off the outlets again.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_store::Scope;
use cledger_work::deliver::withdraw::{Withdrawn, take_settings_out, withdraw};
use cledger_work::meant::address;
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::options::ChangeOptions;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct WithdrawArgs {
    /// What to withdraw: UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "UNIT@STAGE")]
    address: String,
    /// The stage, where the address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Take the unit's settings for the stage out of the ledger, too
    #[arg(long)]
    settings: bool,
    /// Do it; without it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &WithdrawArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let address = address(&args.address, args.stage.as_ref())?;
    let consent = args.change.consent();
    let withdrawn = withdraw(&app.open(&Scope::Whole)?, &address, &consent, args.write)?;
    let takes_out = args.settings && args.write && withdrawn.is_well();
    let settings =
        takes_out.then(|| take_settings_out(&app.change(&args.change.wait)?, withdrawn.of, &consent));
    Ok(app.show(&View { withdrawn, settings }))
}

/// What was withdrawn, and what became of the settings, if they were to be taken out.
struct View {
    withdrawn: Withdrawn,
    settings: Option<Result<(), Trouble>>,
}

impl Shown for View {
    fn print(&self, console: &mut Console) {
        let are_out = matches!(self.settings, Some(Ok(())));
        text::withdraw::print(console, &self.withdrawn, are_out);
    }

    fn document(&self) -> impl Serialize {
        json::withdraw::document(&self.withdrawn)
    }

    fn kind(&self) -> Option<Kind> {
        self.trouble().map(Trouble::kind).max(self.withdrawn.kind())
    }

    fn trouble(&self) -> Option<&Trouble> {
        self.settings.as_ref().and_then(|settings| settings.as_ref().err())
    }
}
