//! Routines: a search and the changes to what it finds, kept in `ledger.toml` to be used again.

use std::collections::BTreeSet;

use cledger_core::model::Ledger;
use cledger_core::name::{Name, nearest};
use cledger_store::{Changed, append};
use regex::Regex;
use serde::{Deserialize, Serialize};

use crate::change::Changing;
use crate::conditions::SearchTexts;
use crate::replace::changes::ChangeTexts;
use crate::trouble::Trouble;

/// The file that holds routines.
const MANIFEST: &str = cledger_store::MANIFEST;

/// A search and changes.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Routine {
    /// What is searched for.
    #[serde(default)]
    pub search: SearchTexts,
    /// What takes its place.
    #[serde(default)]
    pub replace: ChangeTexts,
}

/// The routines of a `ledger.toml`; everything else in it is passed over.
#[derive(Debug, Deserialize)]
struct Routines {
    #[serde(default)]
    routine: Vec<Kept>,
}

#[derive(Debug, Deserialize)]
struct Kept {
    name: String,
    about: Option<String>,
    #[serde(flatten)]
    routine: Routine,
}

/// A routine that is kept.
#[derive(Debug, Clone)]
pub struct Listed {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub about: Option<String>,
    /// The names that it leaves open, to be given by `--with`.
    pub open: Vec<String>,
}

/// The routines of a ledger, in their order.
pub fn list(ledger: &Ledger) -> Result<Vec<Listed>, Trouble> {
    let listed = |mut kept: Kept| {
        let hole = hole()?;
        let texts = kept.routine.search.texts().chain(kept.routine.replace.texts());
        let texts: Vec<String> = texts.map(|text| text.clone()).collect();
        let holes = texts.iter().flat_map(|text| hole.captures_iter(text)).map(|found| found[1].to_owned());
        let open: BTreeSet<String> = holes.collect();
        Ok(Listed { name: kept.name, about: kept.about, open: open.into_iter().collect() })
    };
    kept(ledger)?.into_iter().map(listed).collect()
}

/// What a routine searches for, with `{NAME}` in its texts filled in; what it changes is passed over.
pub fn search(ledger: &Ledger, name: &Name, with: &[String]) -> Result<SearchTexts, Trouble> {
    let mut search = named(ledger, name)?.search;
    fill(name, search.texts(), with)?;
    Ok(search)
}

/// What is left open in a text.
fn hole() -> Result<Regex, Trouble> {
    Regex::new(r"\{([A-Za-z][A-Za-z0-9_-]*)\}").map_err(|error| Trouble::usage(error.to_string()))
}

#[derive(Debug, Serialize)]
struct Saved<'r> {
    routine: [SavedRoutine<'r>; 1],
}

#[derive(Debug, Serialize)]
struct SavedRoutine<'r> {
    name: &'r str,
    #[serde(flatten)]
    routine: &'r Routine,
}

fn kept(ledger: &Ledger) -> Result<Vec<Kept>, Trouble> {
    let file = ledger.files.0.iter().find(|file| file.path == MANIFEST);
    let text = file.map_or("", |file| file.text.trim_start_matches('\u{feff}'));
    let routines: Routines = toml::from_str(text).map_err(|error| {
        let message = format!("a routine in {MANIFEST} cannot be read: {}", error.message());
        Trouble::usage(message).help("docs/formats.md says what can stand in it")
    })?;
    Ok(routines.routine)
}

/// The routine of this name.
fn named(ledger: &Ledger, name: &Name) -> Result<Routine, Trouble> {
    let mut routines = kept(ledger)?;
    let Some(at) = routines.iter().position(|kept| kept.name == name.as_str()) else {
        let near = nearest(name.as_str(), routines.iter().map(|kept| kept.name.as_str()));
        let help = near.map_or("`cledger replace … --save NAME` keeps one".to_owned(), |near| {
            format!("did you mean `{near}`?")
        });
        return Err(Trouble::usage(format!("there is no routine `{name}`")).help(help));
    };
    Ok(routines.swap_remove(at).routine)
}

/// The routine of this name, with `{NAME}` in its texts filled in.
pub(crate) fn filled(ledger: &Ledger, name: &Name, with: &[String]) -> Result<Routine, Trouble> {
    let mut routine = named(ledger, name)?;
    fill(name, routine.search.texts().chain(routine.replace.texts()), with)?;
    Ok(routine)
}

/// Fills in what texts leave open: all of it, and nothing else.
fn fill<'t>(
    name: &Name,
    texts: impl Iterator<Item = &'t mut String>,
    with: &[String],
) -> Result<(), Trouble> {
    let mut given = Vec::new();
    for text in with {
        let Some((name, value)) = text.split_once('=') else {
            return Err(Trouble::usage(format!("--with {text} has no value")).help("write NAME=VALUE"));
        };
        given.push((name, value));
    }
    let hole = hole()?;
    let mut open: Vec<String> = Vec::new();
    let mut used: Vec<&str> = Vec::new();
    for text in texts {
        let full = hole.replace_all(text, |found: &regex::Captures<'_>| {
            let Some(&(name, value)) = given.iter().find(|(name, _)| *name == &found[1]) else {
                open.push(found[1].to_owned());
                return found[0].to_owned();
            };
            used.push(name);
            value.to_owned()
        });
        *text = full.into_owned();
    }
    open.sort_unstable();
    open.dedup();
    if !open.is_empty() {
        let help: Vec<String> = open.iter().map(|name| format!("--with {name}=…")).collect();
        let message = format!("routine `{name}` leaves {} open", open.join(", "));
        return Err(Trouble::usage(message).help(format!("add {}", help.join(" "))));
    }
    if let Some((unused, _)) = given.iter().find(|(name, _)| !used.contains(name)) {
        return Err(Trouble::usage(format!("routine `{name}` leaves no `{unused}` open"))
            .help("leave that --with out"));
    }
    Ok(())
}

/// Keeps a routine in `ledger.toml`.
pub(crate) fn save(changing: &Changing, name: &Name, routine: &Routine) -> Result<(), Trouble> {
    if kept(changing.ledger())?.iter().any(|kept| kept.name == name.as_str()) {
        let message = format!("there is a routine `{name}` already");
        return Err(Trouble::usage(message).help("choose another name, or take that one out of ledger.toml"));
    }
    let saved = Saved { routine: [SavedRoutine { name: name.as_str(), routine }] };
    let block = toml::to_string(&saved).map_err(|error| Trouble::usage(error.to_string()))?;
    let file = changing.ledger().files.0.iter().find(|file| file.path == MANIFEST);
    let text = append(file.map(|file| file.text.as_str()), &block);
    let planned = changing.plan_texts(Changed::from([(MANIFEST.to_owned(), Some(text))]))?;
    changing.write(&planned)
}
