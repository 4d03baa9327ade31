//! `cledger outlet`: where stages are delivered to and read back from.

use clap::{Args, Subcommand};
use cledger_core::address::Pattern;
use cledger_outlets::read_back::{Held, read_back};
use cledger_store::Scope;

use super::drift::places;
use crate::app::App;
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct OutletArgs {
    #[command(subcommand)]
    command: OutletCommand,
}

#[derive(Debug, Subcommand)]
enum OutletCommand {
    /// List outlets by stage, and say whether each answers and which units are there
    List(ListArgs),
}

#[derive(Debug, Args)]
struct ListArgs {
    /// The stages, as @PATTERN; all if not given
    #[arg(value_name = "@STAGE")]
    stages: Vec<String>,
}

/// An outlet in a stage.
pub(crate) struct Listed {
    pub(crate) name: String,
    pub(crate) kind: &'static str,
    pub(crate) stage: String,
    /// How many units and instances belong there.
    pub(crate) units: usize,
    /// How many of them are there.
    pub(crate) there: usize,
    /// Why it does not answer, or not for all of them.
    pub(crate) trouble: Option<String>,
}

pub(crate) fn run(args: &OutletArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let OutletCommand::List(args) = &args.command;
    let patterns: Vec<Pattern> =
        args.stages.iter().map(|text| Pattern::parse(text)).collect::<Result<_, _>>()?;
    let (root, ledger) = app.open(&Scope::Whole)?;
    let mut places = places::outlets(&patterns, &ledger, &root)?;
    for place in &mut places {
        for subject in place.subjects.clone() {
            place.ask(&ledger, subject, Vec::new())?;
        }
    }
    let sources: Vec<_> = places.iter().map(|place| place.source.clone()).collect();
    let mut listed = Vec::new();
    for (place, back) in places.iter().zip(read_back(&sources)) {
        let is_there = |held: &&Held| matches!(held, Held::Files(_) | Held::Environment(_));
        let not_known = back.units.values().find_map(|held| match held {
            Held::NotKnown(reason) => Some(reason.clone()),
            _ => None,
        });
        let late = place.source.asked.values().len() > back.units.len();
        let (name, kind) = place.outlet_name().unwrap_or_default();
        listed.push(Listed {
            name,
            kind,
            stage: ledger.stage(place.stage).name.to_string(),
            units: place.subjects.len(),
            there: back.units.values().filter(is_there).count(),
            trouble: if late { Some(place.trouble(&back)) } else { not_known },
        });
    }
    if app.console.is_json() {
        app.console.document(&json::outlet::document(&listed));
    } else {
        text::outlet::print(app.console, &listed);
    }
    let all_answer = listed.iter().all(|outlet| outlet.trouble.is_none());
    Ok(if all_answer { status::CLEAN } else { status::OUTSIDE })
}
