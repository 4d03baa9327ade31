//! `cledger drift`: what is really there, compared with what the ledger says.

mod take;

use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Owner, Pattern};
use cledger_core::model::{Ledger, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_core::trust::Granted;
use cledger_outlets::Trust;
use cledger_store::{Capture, Scope};

use super::{with_stage, without_delivery};
use crate::app::{App, scope_of};
use crate::change::{ChangeOptions, Changing};
use crate::complete;
use crate::conditions::day;
use crate::daybook;
use crate::error::{CliError, status};
use crate::existing;
use crate::output::{json, text};
use crate::reality::captured::Captured;
use crate::reality::{Around, Place, Seeing, UnitDrift, look, lookups, places, since};

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
    /// Look at what was captured into this file instead of outlets
    #[arg(long, value_name = "FILE", conflicts_with = "observed")]
    captured: Option<PathBuf>,
    /// The day from which last days are counted, instead of `CLEDGER_TODAY` or today (UTC)
    #[arg(long, value_name = "YYYY-MM-DD")]
    today: Option<String>,
    /// Take the live values of these fields over into the ledger; UNIT/NAME@STAGE for a name that no
    /// contract has, which is declared
    #[arg(long, value_name = "ADDRESS", num_args = 1.., conflicts_with = "addresses")]
    take: Vec<String>,
    /// Write what is taken over; without it is only shown
    #[arg(long, requires = "take")]
    write: bool,
    /// Let secrets stand in plain text where the stage has no key
    #[arg(long, requires = "take")]
    plain_secrets: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

/// What somebody wants to look at.
enum Wanted {
    /// A unit, or all, of one stage, in a folder.
    Folder(Box<Address>, PathBuf),
    /// Whatever these patterns cover, in outlets.
    Outlets(Vec<Pattern>),
}

pub(crate) fn run(args: &DriftArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let capture = args.captured.as_deref().map(existing::capture).transpose()?;
    let (wanted, scope) = wanted(args, capture.as_ref())?;
    let changing = if args.take.is_empty() { None } else { Some(Changing::start(app, &args.change)?) };
    let opened = if changing.is_none() { Some(app.open(&scope)?) } else { None };
    let (root, ledger) = match (&changing, &opened) {
        (Some(changing), _) => (changing.root().to_owned(), &changing.ledger),
        (None, Some((root, ledger))) => (root.clone(), ledger),
        (None, None) => return Ok(status::CLEAN),
    };
    let outside = app.outside(&root);
    let resolver = Resolver::new(ledger, &outside, &[]);
    let around = Around {
        ledger_folder: &root,
        outside: &outside,
        trust: Trust::of_system(),
        // In place of outlets a capture is read, and nothing is reached.
        granted: if capture.is_some() { Granted::All } else { app.granted().clone() },
    };
    let today = day(args.today.as_deref())?;
    let lookups = match &wanted {
        Wanted::Folder(..) => Vec::new(),
        // What is looked up is not in a capture.
        Wanted::Outlets(_) if capture.is_some() => Vec::new(),
        Wanted::Outlets(patterns) => lookups::look_up(patterns, ledger, &outside, &around, app.console)?,
    };
    let places = match places(&wanted, ledger, &around, app) {
        // Values that are looked up are something to look at, too.
        Err(error) if !lookups.is_empty() && error.status() != status::REFUSED => Vec::new(),
        places => places?,
    };
    let keys = app.keys(&root);
    let capture = capture.map(|file| Captured { file, keys: &keys });
    let at = capture.as_ref().map_or(Seeing::Live(app.console), Seeing::Capture);
    let mut looked = look(places, &resolver, today, at)?;
    if let Some(mut book) = daybook::reading(app, ledger, &root)? {
        since::tell(&mut *book, &mut looked, ledger, &keys)?;
    }
    if let Some(changing) = &changing {
        return take::take(args, changing, &looked, app);
    }
    let mut units: Vec<UnitDrift> = looked.into_iter().flat_map(|looked| looked.units).collect();
    units.extend(lookups::standing(&lookups, ledger, today));
    let clean = units.iter().all(UnitDrift::is_clean);
    let known = units.iter().any(|unit| !unit.is_clean() && !unit.is_unreachable());
    let console = &mut *app.console;
    if console.is_json() {
        console.document(&json::drift::document(&units));
    } else {
        text::drift::print(console, &units);
    }
    app.tell_unread(&outside);
    Ok(match (clean, known) {
        (true, _) => status::CLEAN,
        (false, true) => status::FOUND,
        // Nothing differs that could be told.
        (false, false) => status::OUTSIDE,
    })
}

/// Reads what is wanted, and how much of the ledger it takes.
fn wanted(args: &DriftArgs, capture: Option<&Capture>) -> Result<(Wanted, Scope), CliError> {
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
    // Of what is taken over, the whole unit is looked at; of shared fields, all units.
    for text in &args.take {
        let address = with_stage(Address::parse(text)?, args.stage.as_ref())?;
        let owner = address.owner.filter(|owner| *owner != Owner::Shared).map(|owner| owner.to_string());
        let Some(stage) = address.stage else {
            let message = format!("`{text}` names no stage, and only stages are live");
            return Err(CliError::usage(message).help("write @STAGE behind the field"));
        };
        patterns.push(Pattern::parse(&format!("{}@{stage}", owner.unwrap_or_default()))?);
    }
    for text in &args.addresses {
        let text = match &args.stage {
            Some(stage) if !text.contains('@') => format!("{text}@{stage}"),
            _ => text.clone(),
        };
        let pattern = Pattern::parse(&text)?;
        refuse_entry(&text, pattern.has_entry())?;
        patterns.push(pattern);
    }
    let captured = capture.map(|capture| &capture.stage);
    if let (Some(stage), true) = (args.stage.as_ref().or(captured), patterns.is_empty()) {
        patterns.push(Pattern::parse(&format!("@{stage}"))?);
    }
    if let Some(stage) = captured {
        for pattern in &mut patterns {
            // A capture is of one stage, which need not be named again.
            if !pattern.has_stage() {
                *pattern = Pattern::parse(&format!("{pattern}@{stage}"))?;
            } else if pattern.to_string().split_once('@').is_none_or(|(_, named)| named != stage.as_str()) {
                let message = format!("the capture is of `{stage}`, and `{pattern}` is not");
                return Err(CliError::usage(message).help(format!("write @{stage}, or leave the stage out")));
            }
        }
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
