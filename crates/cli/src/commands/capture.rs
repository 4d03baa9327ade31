//! `cledger capture`: what the outlets of a stage hold now, saved as a file.

use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Pattern};
use cledger_core::model::LayerId;
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_store::{Capture, CapturedUnit, Mode, Scope, write_atomically};
use jiff::Timestamp;

use super::with_stage;
use crate::app::App;
use crate::complete;
use crate::conditions::day;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::reality::captured::{Hiding, SecretsAs, outlet};
use crate::reality::{Around, Seeing, look, places};
use crate::secrets::who;

#[derive(Debug, Args)]
pub(crate) struct CaptureArgs {
    /// The stage, as @STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "@STAGE")]
    address: String,
    /// Only these units
    #[arg(value_name = "UNIT")]
    units: Vec<String>,
    /// The file to write; without it the capture is printed
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// What becomes of secrets, and of names that the ledger does not know
    #[arg(long, value_enum, default_value_t = SecretsAs::Encrypted)]
    secrets: SecretsAs,
}

/// What was captured of one outlet.
pub(crate) struct Counted {
    pub(crate) outlet: String,
    pub(crate) kind: String,
    pub(crate) there: usize,
    pub(crate) not_there: usize,
    pub(crate) not_known: Vec<String>,
}

pub(crate) fn run(args: &CaptureArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let address = with_stage(Address::parse(&args.address)?, None::<&Name>)?;
    let Some(stage) = address.stage.as_ref().filter(|_| address.owner.is_none()) else {
        let message = format!("`{}` names no stage", args.address);
        return Err(CliError::usage(message).help("write @STAGE, and units behind it"));
    };
    let mut patterns = Vec::new();
    for unit in &args.units {
        patterns.push(Pattern::parse(&format!("{unit}@{stage}"))?);
    }
    if patterns.is_empty() {
        patterns.push(Pattern::parse(&format!("@{stage}"))?);
    }
    let (root, ledger) = app.open(&Scope::Whole)?;
    let id = App::stage(&ledger, Some(stage))?.stage;
    let (outside, keys) = (app.outside(&root), app.keys(&root));
    let scope = ledger.key_scope(LayerId::Stage(id));
    if args.secrets != SecretsAs::LeftOut && !keys.has_key(&scope) {
        let message = format!("`{stage}` has no key under which secrets could be captured");
        let help = format!("make one: cledger key make @{stage} --write; or add --secrets left-out");
        return Err(CliError::refused(message).help(help));
    }
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let around = Around::of(app, &root, &outside);
    let places = places::outlets(&patterns, &ledger, &around)?;
    let looked = look(places, &resolver, day(None)?, Seeing::Live(app.console))?;
    let hiding = Hiding { keys: &keys, scope, how: args.secrets };
    let mut capture = Capture::new(&ledger.name, stage.clone(), Timestamp::now().to_string(), who());
    for looked in &looked {
        capture.outlets.push(outlet(&ledger, looked, &hiding)?);
    }
    let counted: Vec<Counted> = capture.outlets.iter().map(counted).collect();
    match &args.out {
        None => app.console.raw(&capture.to_text()),
        Some(path) => {
            write_atomically(path, capture.to_text().as_bytes(), Mode::AsBefore)?;
            if app.console.is_json() {
                app.console.document(&json::capture::document(&capture, path));
            } else {
                text::capture::print(app.console, &counted, path);
            }
        }
    }
    let all_known = counted.iter().all(|outlet| outlet.not_known.is_empty());
    Ok(if all_known { status::CLEAN } else { status::OUTSIDE })
}

fn counted(outlet: &cledger_store::CapturedOutlet) -> Counted {
    let units = || outlet.units.values();
    Counted {
        outlet: outlet.name.to_string(),
        kind: outlet.kind.clone(),
        there: units().filter(|unit| matches!(unit, CapturedUnit::There { .. })).count(),
        not_there: units().filter(|unit| matches!(unit, CapturedUnit::NotThere)).count(),
        not_known: units()
            .filter_map(|unit| match unit {
                CapturedUnit::NotKnown { reason } => Some(reason.clone()),
                _ => None,
            })
            .collect(),
    }
}
