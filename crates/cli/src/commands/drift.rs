//! `cledger drift`: what is really there, compared with what the ledger says.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::drift::{self, FileDrift, Observed};
use cledger_core::model::{Ledger, Subject};
use cledger_core::name::Name;
use cledger_core::render::{RenderedOutput, Rendering, rendering};
use cledger_core::resolve::Resolver;
use cledger_formats::{RenderError, particulars, text_of};

use super::show::{with_stage, without_delivery};
use crate::app::{App, scope_of, unit_of};
use crate::complete;
use crate::conditions::day;
use crate::error::{CliError, status};
use crate::existing::{self, ExistingError};
use crate::output::text::drift::{State, UnitDrift};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct DriftArgs {
    /// What to look at: @STAGE, or UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The stage, where the address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// The folder with what is there: a folder for each unit, with its files as rendered
    #[arg(long, value_name = "DIR")]
    observed: PathBuf,
    /// The day from which last days are counted, instead of `CLEDGER_TODAY` or today (UTC)
    #[arg(long, value_name = "YYYY-MM-DD")]
    today: Option<String>,
}

pub(crate) fn run(args: &DriftArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let address = without_delivery(with_stage(Address::parse(&args.address)?, args.stage.as_ref())?)?;
    if address.entry.is_some() {
        let message = format!("`{address}` names an entry, and whole units are looked at");
        return Err(CliError::usage(message).help("leave out what begins with `/`"));
    }
    let there = folders(&args.observed)?;
    let (root, ledger) = app.open(&scope_of([&address]))?;
    let chosen = App::stage(&ledger, address.stage.as_ref())?;
    let stage = ledger.stage(chosen.stage).name.as_str();
    if let Some(because) = &chosen.because {
        app.console.notice(&format!("stage {stage}, from {because}"));
    }
    let subjects: Vec<Subject> = match &address.owner {
        None => ledger.subjects_in(chosen.stage).collect(),
        Some(owner) => vec![app.subject_in(&ledger, owner, chosen.stage)?],
    };
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let today = day(args.today.as_deref())?;
    let mut units = Vec::new();
    for subject in subjects {
        let mut session = resolver.session(unit_of(subject));
        let rendering = rendering(&mut session, subject, chosen.stage);
        let owner = ledger.owner(subject).to_string();
        let mut found = state(&ledger, &rendering, &args.observed.join(&owner), there.contains(&owner));
        if let State::There(files) = &mut found {
            for (_, file) in files {
                file.waive(&ledger, today);
            }
        }
        units.push(UnitDrift { owner, state: found });
    }
    if address.owner.is_none() {
        let known: BTreeSet<&str> = units.iter().map(|unit| unit.owner.as_str()).collect();
        let unknown = there.iter().filter(|name| !known.contains(name.as_str())).cloned();
        let unknown: Vec<UnitDrift> =
            unknown.map(|owner| UnitDrift { owner, state: State::Unknown }).collect();
        units.extend(unknown);
    }
    let clean = units.iter().all(UnitDrift::is_clean);
    let console = &mut *app.console;
    if console.is_json() {
        console.document(&json::drift::document(stage, &units));
    } else {
        text::drift::print(console, &units);
    }
    app.tell_unreadable(&outside.keys);
    Ok(if clean { status::CLEAN } else { status::FOUND })
}

/// The names of the folders in the observed one.
fn folders(observed: &Path) -> Result<BTreeSet<String>, CliError> {
    let wrong = |error: io::Error| {
        let path = observed.display();
        CliError::usage(format!("`{path}` cannot be read: {error}"))
            .help("name the folder that holds a folder for each unit")
    };
    let mut names = BTreeSet::new();
    for entry in fs::read_dir(observed).map_err(wrong)? {
        let entry = entry.map_err(wrong)?;
        // Through links too: deliveries often switch one.
        if entry.path().is_dir() {
            names.insert(entry.file_name().to_string_lossy().into_owned());
        }
    }
    Ok(names)
}

fn state(ledger: &Ledger, rendering: &Rendering<'_>, folder: &Path, there: bool) -> State {
    if rendering.outputs.is_empty() {
        return State::NothingRendered;
    }
    if !there {
        return State::NotThere;
    }
    let file = |output: &RenderedOutput<'_>| {
        let found = existing::text(&folder.join(&output.path));
        let drift = match text_of(output) {
            Ok(expected) if output.output.template.is_some() => {
                drift::of_text(&expected.text, found.map_or_else(not_there, Observed::Text))
            }
            Err(error @ RenderError::Template { .. }) => FileDrift::Unreadable(error.to_string()),
            // What cannot be written can be looked at all the same.
            Ok(_) | Err(RenderError::Write(_)) => {
                let read = |text: String| existing::read(&text, output.output.format, particulars(output));
                let tree = found.and_then(read).map(|found| found.tree);
                drift::of_output(ledger, output, tree.map_or_else(not_there, Observed::Tree))
            }
        };
        (output.path.clone(), drift)
    };
    State::There(rendering.outputs.iter().map(file).collect())
}

fn not_there(reason: ExistingError) -> Observed {
    match reason {
        ExistingError::NotThere => Observed::NotThere,
        other => Observed::Unreadable(other.to_string()),
    }
}
