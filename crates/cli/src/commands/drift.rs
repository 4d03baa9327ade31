//! `cledger drift`: what is really there, compared with what the ledger says.

use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_work::drift::{Deliveries, Drift, LookedAt, ToLookAt, ToTake, drift, take};
use cledger_work::whole_units::WholeUnits;
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions, moment};
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
#[command(mut_arg("write", |arg| arg.requires("take")))]
pub(crate) struct DriftArgs {
    /// What to look at: stages as `@PATTERN`, units as `UNIT@PATTERN` or `UNIT`; all that outlets have if
    /// not given
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "ADDRESS", value_delimiter = ',')]
    addresses: Vec<String>,
    /// The stage, where an address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Look into this folder instead of outlets: a folder for each unit, with its files as rendered
    #[arg(long, value_name = "DIR")]
    observed: Option<PathBuf>,
    /// Look at what was captured into this file instead of outlets
    #[arg(long, value_name = "FILE", conflicts_with = "observed")]
    captured: Option<PathBuf>,
    /// Look at what the ledger said when this was captured (`capture --with-ledger`) instead of outlets
    #[arg(long, value_name = "FILE", conflicts_with_all = ["observed", "captured"])]
    captured_ledger: Option<PathBuf>,
    /// Look at what was delivered instead of outlets: UNIT@STAGE:NUMBER, bundle:NAME@STAGE:NUMBER, or what was there
    /// at a time, as YYYY-MM-DDTHH:MM (UTC unless an offset is given)
    #[arg(long, value_name = "WHAT", conflicts_with_all = ["observed", "captured", "captured_ledger"])]
    delivered: Option<String>,
    /// Show only units that are not as the ledger says
    #[arg(long, conflicts_with = "take")]
    differing: bool,
    /// The day from which last days are counted, instead of `CLEDGER_TODAY` or today (UTC)
    #[arg(long, value_name = "YYYY-MM-DD")]
    today: Option<String>,
    /// Take the live values of these fields over into the ledger (patterns); UNIT/NAME@STAGE for a name that
    /// no contract has, which is declared
    #[arg(long, value_name = "ADDRESS", num_args = 1.., conflicts_with = "addresses", value_delimiter = ',')]
    take: Vec<String>,
    #[command(flatten)]
    act: ActOptions,
    /// Let secrets stand in plain text where the stage has no key
    #[arg(long, requires = "take")]
    plain_secrets: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &DriftArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if !args.take.is_empty() {
        return taken(args, app);
    }
    let asked = ToLookAt {
        addresses: args.addresses.clone(),
        stage: args.stage.clone(),
        observed: args.observed.clone(),
        at: looked_at(args)?,
        today: args.today.clone(),
    };
    let drift = drift(&app.at, &asked)?;
    Ok(app.show(&View { drift, differing: args.differing }))
}

/// How units stand, all or those alone that are not as the ledger says.
struct View {
    drift: Drift,
    differing: bool,
}

impl Shown for View {
    fn print(&self, console: &mut Console) {
        text::drift::print(console, &self.drift, self.differing);
    }

    fn document(&self) -> impl Serialize {
        let Drift { units, against } = &self.drift;
        json::drift::document(units, *against, self.differing)
    }

    fn kind(&self) -> Option<Kind> {
        self.drift.kind()
    }
}

/// What is looked at, where no folder is named.
fn looked_at(args: &DriftArgs) -> Result<LookedAt, Trouble> {
    if let Some(path) = &args.captured_ledger {
        return Ok(LookedAt::CapturedLedger(path.clone()));
    }
    Ok(match (&args.captured, &args.delivered) {
        (Some(path), _) => LookedAt::Captured(path.clone()),
        (None, Some(text)) if text.contains('@') => {
            let texts = std::slice::from_ref(text);
            LookedAt::Delivered(Deliveries::Of(WholeUnits::parse(texts, None, "looked at")?))
        }
        (None, Some(text)) => LookedAt::Delivered(Deliveries::At(moment(text).map_err(|error| {
            Trouble::usage(format!("`{text}` is no time, and no delivery: {error}"))
                .help("write YYYY-MM-DDTHH:MM, UNIT@STAGE:NUMBER or bundle:NAME@STAGE:NUMBER")
        })?)),
        (None, None) => LookedAt::Outlets,
    })
}

fn taken(args: &DriftArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if args.observed.is_some() {
        return Err(Trouble::usage("values are taken over from outlets or from a capture")
            .help("leave --observed out, or set the values yourself"));
    }
    let asked = ToTake {
        fields: args.take.clone(),
        stage: args.stage.clone(),
        at: looked_at(args)?,
        today: args.today.clone(),
        plain_secrets: args.plain_secrets,
        consent: args.change.consent(),
        write: args.act.writes(),
    };
    Ok(app.show(&take(&app.change(&args.change.wait)?, &asked)?))
}
