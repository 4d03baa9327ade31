//! `cledger drift`: what is really there, compared with what the ledger says.

use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Pattern};
use cledger_core::model::{Ledger, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_outlets::Trust;
use cledger_store::Scope;

use super::{with_stage, without_delivery};
use crate::app::{App, scope_of};
use crate::complete;
use crate::conditions::day;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::reality::{Around, Place, UnitDrift, look, lookups, places};

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

/// What somebody wants to look at.
enum Wanted {
    /// A unit, or all, of one stage, in a folder.
    Folder(Box<Address>, PathBuf),
    /// Whatever these patterns cover, in outlets.
    Outlets(Vec<Pattern>),
}

pub(crate) fn run(args: &DriftArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let (wanted, scope) = wanted(args)?;
    let (root, ledger) = app.open(&scope)?;
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let around = Around { ledger_folder: &root, outside: &outside, trust: Trust::of_system() };
    let today = day(args.today.as_deref())?;
    let lookups = match &wanted {
        Wanted::Folder(..) => Vec::new(),
        Wanted::Outlets(patterns) => lookups::look_up(patterns, &ledger, &outside, &around, app.console)?,
    };
    let places = match places(&wanted, &ledger, &around, app) {
        // Values that are looked up are something to look at, too.
        Err(_) if !lookups.is_empty() => Vec::new(),
        places => places?,
    };
    let looked = look(places, &resolver, today, app.console)?;
    let mut units: Vec<UnitDrift> = looked.into_iter().flat_map(|looked| looked.units).collect();
    units.extend(lookups::standing(&lookups, &ledger, today));
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

/// Reads what is wanted, and how much of the ledger it takes.
fn wanted(args: &DriftArgs) -> Result<(Wanted, Scope), CliError> {
    if let Some(folder) = &args.observed {
        let [text] = &args.addresses[..] else {
            return Err(CliError::usage("a folder is of one stage").help("name it: @STAGE, or UNIT@STAGE"));
        };
        let address = without_delivery(with_stage(Address::parse(text)?, args.stage.as_ref())?)?;
        refuse_entry(text, address.entry.is_some())?;
        let scope = scope_of([&address]);
        return Ok((Wanted::Folder(Box::new(address), folder.clone()), scope));
    }
    let mut patterns = Vec::new();
    for text in &args.addresses {
        let text = match &args.stage {
            Some(stage) if !text.contains('@') => format!("{text}@{stage}"),
            _ => text.clone(),
        };
        let pattern = Pattern::parse(&text)?;
        refuse_entry(&text, pattern.has_entry())?;
        patterns.push(pattern);
    }
    if let (Some(stage), true) = (&args.stage, patterns.is_empty()) {
        patterns.push(Pattern::parse(&format!("@{stage}"))?);
    }
    Ok((Wanted::Outlets(patterns), Scope::Whole))
}

fn refuse_entry(text: &str, has_entry: bool) -> Result<(), CliError> {
    if has_entry {
        let message = format!("`{text}` names an entry, and whole units are looked at");
        return Err(CliError::usage(message).help("leave out what begins with `/`"));
    }
    Ok(())
}

/// The places that are meant.
fn places<'l>(
    wanted: &Wanted,
    ledger: &'l Ledger,
    around: &Around<'_>,
    app: &App<'_>,
) -> Result<Vec<Place<'l>>, CliError> {
    match wanted {
        Wanted::Folder(address, folder) => {
            let chosen = App::stage(ledger, address.stage.as_ref())?;
            if let Some(because) = &chosen.because {
                app.console.notice(&format!("stage {}, from {because}", ledger.stage(chosen.stage).name));
            }
            let subjects: Vec<Subject> = match &address.owner {
                None => ledger.subjects_in(chosen.stage).collect(),
                Some(owner) => vec![app.subject_in(ledger, owner, chosen.stage)?],
            };
            let is_whole = address.owner.is_none();
            Ok(vec![places::folder(folder.clone(), chosen.stage, subjects, is_whole)?])
        }
        Wanted::Outlets(patterns) => places::outlets(patterns, ledger, around),
    }
}
