//! `cledger withdraw`: what was delivered, taken off the outlets again.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_work::deliver::AT_ONCE;
use cledger_work::deliver::withdraw::{AllWithdrawn, ToWithdraw, Withdrawn, take_settings_out, withdraw};
use cledger_work::whole_units::WholeUnits;
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions, EditOptions};
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct WithdrawArgs {
    /// What to withdraw: UNIT[+INSTANCE]@STAGE, patterns of units, bundle:NAME@STAGE, or @STAGE for all that was delivered
    /// there
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "UNIT@STAGE", value_delimiter = ',', required = true)]
    what: Vec<String>,
    /// The stage, where none is named with the units
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Take the unit's settings for the stage out of the ledger, too
    #[arg(long)]
    settings: bool,
    /// Take so many units off at once
    #[arg(long, value_name = "COUNT", default_value_t = AT_ONCE)]
    at_once: usize,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    edits: EditOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &WithdrawArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let what = WholeUnits::parse(&args.what, args.stage.as_ref(), "withdrawn")?.without_delivery()?;
    let consent = args.change.consent();
    let asked = ToWithdraw {
        edits: args.edits.edits(),
        at_once: args.at_once,
        consent: consent.clone(),
        write: args.act.writes(),
    };
    let withdrawn = withdraw(&app.open_for(&what)?, &what, &asked)?;
    let mut settings = None;
    if args.settings && args.act.writes() && withdrawn.units.iter().all(Withdrawn::is_well) {
        let changing = app.change(&args.change.wait)?;
        let mut all =
            withdrawn.units.iter().filter_map(|withdrawn| Some((withdrawn.subject?, withdrawn.stage_id)));
        let taken: Result<(), Trouble> = all.try_for_each(|of| take_settings_out(&changing, of, &consent));
        settings = Some(taken);
    }
    Ok(app.show(&View { withdrawn, settings }))
}

/// What was withdrawn, and what became of the settings, if they were to be taken out.
struct View {
    withdrawn: AllWithdrawn,
    settings: Option<Result<(), Trouble>>,
}

impl Shown for View {
    fn print(&self, console: &mut Console) {
        let are_out = matches!(self.settings, Some(Ok(())));
        text::withdraw::all(console, &self.withdrawn, are_out);
    }

    fn document(&self) -> impl Serialize {
        json::withdraw::document(&self.withdrawn)
    }

    fn kind(&self) -> Option<Kind> {
        let withdrawn = self.withdrawn.units.iter().filter_map(Withdrawn::kind);
        withdrawn.chain(self.trouble().map(Trouble::kind)).max()
    }

    fn trouble(&self) -> Option<&Trouble> {
        self.settings.as_ref().and_then(|settings| settings.as_ref().err())
    }
}
