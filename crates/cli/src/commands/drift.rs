//! `cledger drift`: what is really there, compared with what the ledger says.

pub(super) mod places;

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::drift::{self, FileDrift, Observed};
use cledger_core::environment::environment;
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::render::{RenderedOutput, Rendering, rendering};
use cledger_core::resolve::Resolver;
use cledger_formats::{particulars, text_of};
use cledger_outlets::file::FileError;
use cledger_outlets::read_back::{Held, ReadBack, read_back};

use self::places::Place;
use crate::app::{App, unit_of};
use crate::complete;
use crate::conditions::day;
use crate::error::{CliError, status};
use crate::existing::{self, ExistingError};
use crate::output::text::drift::{State, UnitDrift};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct DriftArgs {
    /// What to look at: stages as `@PATTERN`, units as `UNIT@PATTERN` or `UNIT`; all that outlets have if
    /// not given
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "ADDRESS")]
    addresses: Vec<String>,
    /// The stage, where an address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Look into this folder instead of outlets: a folder for each unit, with its files as rendered
    #[arg(long, value_name = "DIR")]
    observed: Option<PathBuf>,
    /// The day from which last days are counted, instead of `CLEDGER_TODAY` or today (UTC)
    #[arg(long, value_name = "YYYY-MM-DD")]
    today: Option<String>,
}

pub(crate) fn run(args: &DriftArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let (wanted, scope) = places::wanted(args)?;
    let (root, ledger) = app.open(&scope)?;
    let mut places = places::places(&wanted, &ledger, &root, app)?;
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let mut renderings = BTreeMap::new();
    for place in &mut places {
        for subject in place.subjects.clone() {
            if place.is_process() {
                place.ask(&ledger, subject, Vec::new())?;
                continue;
            }
            let key = (place.stage, subject);
            let rendering = renderings
                .entry(key)
                .or_insert_with(|| rendering(&mut resolver.session(unit_of(subject)), subject, place.stage));
            let files = rendering.outputs.iter().map(|output| output.path.clone()).collect();
            place.ask(&ledger, subject, files)?;
        }
    }
    let sources: Vec<_> = places.iter().map(|place| place.source.clone()).collect();
    let today = day(args.today.as_deref())?;
    let mut units = Vec::new();
    for (place, mut back) in places.iter().zip(read_back(&sources)) {
        for &subject in &place.subjects {
            let owner = ledger.owner(subject).to_string();
            let held = back.units.remove(&owner);
            let mut state = match held {
                None => State::NotKnown(place.trouble(&back)),
                Some(Held::NotKnown(reason)) => State::NotKnown(reason),
                Some(Held::NotThere) => State::NotThere,
                Some(Held::Environment(variables)) => {
                    let made = environment(&mut resolver.session(unit_of(subject)), subject, place.stage);
                    let drift = drift::of_environment(&ledger, &made, &variables);
                    State::There(vec![("environment".to_owned(), drift)])
                }
                Some(Held::Files(files)) => files_state(&ledger, &renderings[&(place.stage, subject)], files),
            };
            if let (State::NotThere | State::There(_), Some(rendering)) =
                (&state, renderings.get(&(place.stage, subject)))
                && rendering.outputs.is_empty()
            {
                state = State::NothingRendered;
            }
            if let State::There(files) = &mut state {
                for (_, file) in files {
                    file.keep(|name| place.keeps(name));
                    file.waive(&ledger, today);
                }
            }
            units.push(place.unit(&ledger, owner, state));
        }
        units.extend(unknown(place, &ledger, &back));
    }
    let clean = units.iter().all(UnitDrift::is_clean);
    let known = units.iter().any(|unit| !unit.is_clean() && !unit.is_unreachable());
    let console = &mut *app.console;
    if console.is_json() {
        console.document(&json::drift::document(&units));
    } else {
        text::drift::print(console, &units);
    }
    app.tell_unreadable(&outside.keys);
    Ok(match (clean, known) {
        (true, _) => status::CLEAN,
        (false, true) => status::FOUND,
        // Nothing differs that could be told.
        (false, false) => status::OUTSIDE,
    })
}

/// Folders there that are no unit's.
fn unknown(place: &Place<'_>, ledger: &Ledger, back: &ReadBack) -> Vec<UnitDrift> {
    if !place.is_whole {
        return Vec::new();
    }
    let known: BTreeSet<String> =
        ledger.subjects_in(place.stage).map(|subject| ledger.owner(subject).to_string()).collect();
    let others = back.folders.iter().filter(|name| !known.contains(*name) && !place.keeps(name));
    others.map(|name| place.unit(ledger, name.clone(), State::Unknown)).collect()
}

/// How the files of a unit stand.
fn files_state(
    ledger: &Ledger,
    rendering: &Rendering<'_>,
    mut files: BTreeMap<String, Result<String, FileError>>,
) -> State {
    let file = |output: &RenderedOutput<'_>| {
        let found = files.remove(&output.path).unwrap_or(Err(FileError::NotThere));
        let drift = if output.output.template.is_some() {
            let observed = found.map_or_else(|error| not_there(error.into()), Observed::Text);
            match text_of(output) {
                Ok(expected) => drift::of_text(&expected.text, observed),
                Err(error) => FileDrift::Unreadable(error.to_string()),
            }
        } else {
            let read = |text: String| existing::read(&text, output.output.format, particulars(output));
            let tree = found.map_err(ExistingError::from).and_then(read).map(|found| found.tree);
            drift::of_output(ledger, output, tree.map_or_else(not_there, Observed::Tree))
        };
        (output.path.clone(), drift)
    };
    State::There(rendering.outputs.iter().map(file).collect())
}

fn not_there(reason: ExistingError) -> Observed {
    match reason {
        ExistingError::File(FileError::NotThere) => Observed::NotThere,
        other => Observed::Unreadable(other.to_string()),
    }
}
