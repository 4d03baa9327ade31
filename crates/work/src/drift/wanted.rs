//! What somebody wants to look at, and what is seen there.

use std::path::PathBuf;

use cledger_core::address::{Address, Pattern};
use cledger_core::name::Name;
use cledger_store::{Capture, Scope};
use jiff::civil::Date;

use crate::daybook;
use crate::meant::{address, refuse_entry, scope_of};
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::captured::Captured;
use crate::reality::look::{Seeing, look_for};
use crate::reality::looked::Looked;
use crate::reality::lookups::{self, Lookup};
use crate::reality::places::{self, Place};
use crate::reality::remains::Remains;
use crate::reality::since;
use crate::reality::veiling;
use crate::trouble::{Kind, Trouble};

/// What is to be looked at.
#[derive(Debug, Clone, Default)]
pub struct ToLookAt {
    /// Stages as `@PATTERN`, units as `UNIT@PATTERN` or `UNIT`; all that outlets have if none is given.
    pub addresses: Vec<String>,
    /// The stage, where an address names none.
    pub stage: Option<Name>,
    /// A folder to look into instead of outlets.
    pub observed: Option<PathBuf>,
    /// A capture to look at instead of outlets.
    pub captured: Option<PathBuf>,
    /// The day from which last days are counted; today if not given.
    pub today: Option<String>,
}

/// The same, read.
pub(crate) enum Wanted {
    /// A unit, or all, of one stage, in a folder.
    Folder(Box<Address>, PathBuf),
    /// Whatever these patterns cover, in outlets.
    Outlets(Vec<Pattern>),
}

impl Wanted {
    /// Reads what is wanted; `captured` is the stage of the capture that is looked at.
    pub(crate) fn read(asked: &ToLookAt, captured: Option<&Name>) -> Result<Self, Trouble> {
        if let Some(folder) = &asked.observed {
            let [text] = &asked.addresses[..] else {
                return Err(Trouble::usage("a folder is of one stage").help("name it: @STAGE, or UNIT@STAGE"));
            };
            let address = address(text, asked.stage.as_ref())?;
            refuse_entry(&address, "looked at")?;
            return Ok(Wanted::Folder(Box::new(address), folder.clone()));
        }
        let mut patterns = Vec::new();
        for text in &asked.addresses {
            let text = match &asked.stage {
                Some(stage) if !text.contains('@') => format!("{text}@{stage}"),
                _ => text.clone(),
            };
            let pattern = Pattern::parse(&text)?;
            if pattern.has_entry() {
                let message = format!("`{text}` names an entry, and whole units are looked at");
                return Err(Trouble::usage(message).help("leave out what begins with `/`"));
            }
            patterns.push(pattern);
        }
        Ok(Wanted::Outlets(of_capture(patterns, asked.stage.as_ref(), captured)?))
    }

    /// Whatever these patterns cover, in outlets or in a capture of this stage.
    pub(crate) fn of_patterns(patterns: Vec<Pattern>, captured: Option<&Name>) -> Result<Self, Trouble> {
        Ok(Wanted::Outlets(of_capture(patterns, None, captured)?))
    }

    /// How much of the ledger it takes.
    pub(crate) fn scope(&self) -> Scope {
        match self {
            Wanted::Folder(address, _) => scope_of([&**address]),
            Wanted::Outlets(_) => Scope::Whole,
        }
    }

    /// The places that are meant.
    fn places<'l>(&self, opened: &'l Opened, around: &Around<'_>) -> Result<Vec<Place<'l>>, Trouble> {
        match self {
            Wanted::Folder(address, folder) => {
                let stage = opened.told_stage(address.stage.as_ref())?;
                let subjects = opened.subjects_in(address.owner.as_ref(), stage)?;
                let is_whole = address.owner.is_none();
                Ok(vec![places::folder(folder.clone(), stage, subjects, is_whole)?])
            }
            Wanted::Outlets(patterns) => places::outlets(patterns, &opened.ledger, around),
        }
    }
}

/// The patterns where a capture is looked at, which is of one stage: it need not be named again.
fn of_capture(
    mut patterns: Vec<Pattern>,
    stage: Option<&Name>,
    captured: Option<&Name>,
) -> Result<Vec<Pattern>, Trouble> {
    if let (Some(stage), true) = (stage.or(captured), patterns.is_empty()) {
        patterns.push(Pattern::parse(&format!("@{stage}"))?);
    }
    let Some(stage) = captured else { return Ok(patterns) };
    for pattern in &mut patterns {
        if !pattern.has_stage() {
            *pattern = Pattern::parse(&format!("{pattern}@{stage}"))?;
        } else if pattern.to_string().split_once('@').is_none_or(|(_, named)| named != stage.as_str()) {
            let message = format!("the capture is of `{stage}`, and `{pattern}` is not");
            return Err(Trouble::usage(message).help(format!("write @{stage}, or leave the stage out")));
        }
    }
    Ok(patterns)
}

/// Looks, and gives what is seen, with values that are looked up and the day from which last days are counted.
pub(crate) fn see<R>(
    opened: &Opened,
    wanted: &Wanted,
    today: Option<&str>,
    capture: Option<Capture>,
    then: impl FnOnce(Vec<Looked<'_>>, &[Lookup<'_>], Date) -> Result<R, Trouble>,
) -> Result<R, Trouble> {
    let (at, ledger, keys) = (&opened.at, &opened.ledger, opened.keys());
    let telling = &*at.telling;
    // In place of outlets a capture is read, and nothing is reached.
    let around = if capture.is_some() { Around::of_capture(opened) } else { Around::of(opened) };
    let today = at.day(today)?;
    let lookups = match wanted {
        // What is looked up is neither in a folder nor in a capture.
        Wanted::Outlets(patterns) if capture.is_none() => {
            lookups::look_up(patterns, ledger, &opened.surroundings, &around, telling)?
        }
        Wanted::Outlets(_) | Wanted::Folder(..) => Vec::new(),
    };
    let places = match wanted.places(opened, &around) {
        // Values that are looked up are something to look at, too.
        Err(trouble) if !lookups.is_empty() && trouble.kind() != Kind::Refused => Vec::new(),
        places => places?,
    };
    let capture = capture.map(|file| Captured::of_file(file, keys));
    let seeing = capture.as_ref().map_or(Seeing::Live(telling), Seeing::Capture);
    let mut book = daybook::reading(opened)?;
    let remains = match (&mut book, &capture) {
        // A capture has what was asked for when it was made.
        (Some(book), None) => Remains::read(&mut **book, ledger)?,
        _ => Remains::default(),
    };
    let mut looked = look_for(places, &opened.resolver(), today, seeing, &remains)?;
    since::tell(book.as_deref_mut(), &mut looked, ledger, keys)?;
    if let Some(mut book) = book {
        veiling::by_deliveries(&mut *book, looked.iter_mut().flat_map(|looked| &mut looked.units))?;
    }
    then(looked, &lookups, today)
}
