//! `cledger outlet list`: which outlets there are, and whether they answer.

use std::collections::BTreeMap;
use std::path::Path;

use clap::Args;
use cledger_core::address::Pattern;
use cledger_core::model::Ledger;
use cledger_outlets::read_back::Held;
use cledger_store::Scope;
use cledger_store::daybook::Wanted;

use super::Listed;
use crate::app::App;
use crate::daybook;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::reality::{Around, places, read_all};

#[derive(Debug, Args)]
pub(crate) struct ListArgs {
    /// The stages, as @PATTERN; all if not given
    #[arg(value_name = "@STAGE")]
    stages: Vec<String>,
}

pub(super) fn run(args: &ListArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let patterns: Vec<Pattern> =
        args.stages.iter().map(|text| Pattern::parse(text)).collect::<Result<_, _>>()?;
    let (root, ledger) = app.open(&Scope::Whole)?;
    let outside = app.outside(&root);
    let around = Around::of(app, &root, &outside);
    let mut places = places::outlets(&patterns, &ledger, &around)?;
    for place in &mut places {
        for subject in place.subjects.clone() {
            place.ask(&ledger, subject, Vec::new())?;
        }
    }
    let sources: Vec<_> = places.iter().map(|place| place.source.clone()).collect();
    let backs = read_all(&sources, app.console, "outlets");
    let delivered = delivered(app, &ledger, &root)?;
    let mut listed = Vec::new();
    for (place, back) in places.iter().zip(backs) {
        let is_there = |held: &&Held| !matches!(held, Held::NotThere | Held::NotKnown(_));
        let not_known = back.units.values().find_map(|held| match held {
            Held::NotKnown(reason) => Some(reason.clone()),
            _ => None,
        });
        let late = place.source.asked.len() > back.units.len();
        let (name, kind) = place.outlet_name().unwrap_or_default();
        let stage = ledger.stage(place.stage).name.to_string();
        let last = delivered.get(&(name.clone(), stage.clone())).cloned();
        listed.push(Listed {
            name,
            kind,
            stage,
            last,
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

/// When something was last delivered, by outlet and stage.
fn delivered(
    app: &App<'_>,
    ledger: &Ledger,
    root: &Path,
) -> Result<BTreeMap<(String, String), String>, CliError> {
    let mut times = BTreeMap::new();
    let Some(mut book) = daybook::reading(app, ledger, root)? else { return Ok(times) };
    for record in book.records(&Wanted::last_of_all())? {
        for answer in &record.meta.outlets {
            times.insert((answer.outlet.clone(), record.meta.stage.clone()), record.meta.time.clone());
        }
    }
    Ok(times)
}
