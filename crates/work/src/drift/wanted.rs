//! What somebody wants to look at, and what is seen there.

use std::path::PathBuf;

use cledger_core::address::{Address, Pattern};
use cledger_core::name::Name;
use cledger_store::{Capture, Scope};
use jiff::civil::Date;

use crate::asking::Telling;
use crate::daybook;
use crate::existing;
use crate::meant::{address, known_stage, refuse_entry, scope_of};
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::captured::Captured;
use crate::reality::delivered::{Delivered, Deliveries, Numbered};
use crate::reality::look::{Seeing, look_for};
use crate::reality::looked::Looked;
use crate::reality::lookups::{self, Lookup};
use crate::reality::places::{self, Place};
use crate::reality::remains::Remains;
use crate::reality::since;
use crate::reality::veiling;
use crate::trouble::{Kind, Trouble};

/// What is looked at, where no folder is named.
#[derive(Debug, Clone, Default)]
pub enum LookedAt {
    /// The outlets, as they are now.
    #[default]
    Outlets,
    /// What was captured of them into this file.
    Captured(PathBuf),
    /// What the ledger said when this file was captured.
    CapturedLedger(PathBuf),
    /// What was delivered.
    Delivered(Deliveries),
}

/// The same, read.
pub(crate) enum Sight {
    Outlets,
    Captured(Capture),
    CapturedLedger(Capture),
    Delivered(Deliveries, Option<Numbered>),
}

impl Sight {
    /// Reads what is told of it before the ledger is: a capture.
    pub(crate) fn read(at: &LookedAt) -> Result<Self, Trouble> {
        Ok(match at {
            LookedAt::Outlets => Sight::Outlets,
            LookedAt::Captured(path) => Sight::Captured(existing::capture(path)?),
            LookedAt::CapturedLedger(path) => {
                let capture = existing::capture(path)?;
                if capture.said.is_none() {
                    let message = format!("`{}` has nothing of the ledger", path.display());
                    return Err(Trouble::usage(message).help(
                        "it was captured without --with-ledger; --captured takes what it has of outlets",
                    ));
                }
                Sight::CapturedLedger(capture)
            }
            LookedAt::Delivered(meant) => Sight::Delivered(meant.clone(), None),
        })
    }

    /// Finds the deliveries that are meant.
    pub(crate) fn find(&mut self, opened: &Opened) -> Result<(), Trouble> {
        if let Sight::Delivered(meant, numbered) = self {
            *numbered = Numbered::find(opened, meant)?;
        }
        Ok(())
    }

    /// The one stage that it is of, if it is of one.
    pub(crate) fn stage(&self) -> Option<&Name> {
        match self {
            Sight::Captured(capture) | Sight::CapturedLedger(capture) => Some(&capture.stage),
            Sight::Delivered(Deliveries::Of(units), _) => units.stage.as_ref(),
            Sight::Outlets | Sight::Delivered(Deliveries::At(_), _) => None,
        }
    }

    /// What it is called.
    fn word(&self) -> &'static str {
        match self {
            Sight::Outlets => "what is looked at",
            Sight::Captured(_) | Sight::CapturedLedger(_) => "the capture",
            Sight::Delivered(..) => "the delivery",
        }
    }

    /// What is looked at of it where nothing is named.
    fn whole(&self) -> Vec<String> {
        match (self, self.stage()) {
            (Sight::Delivered(_, Some(numbered)), Some(stage)) => {
                numbered.numbers.keys().map(|owner| format!("{owner}@{stage}")).collect()
            }
            (_, stage) => stage.map(|stage| format!("@{stage}")).into_iter().collect(),
        }
    }
}

/// What is to be looked at.
#[derive(Debug, Clone, Default)]
pub struct ToLookAt {
    /// Stages as `@PATTERN`, units as `UNIT@PATTERN` or `UNIT`; all that outlets have if none is given.
    pub addresses: Vec<String>,
    /// The stage, where an address names none.
    pub stage: Option<Name>,
    /// A folder to look into instead of outlets.
    pub observed: Option<PathBuf>,
    /// What is looked at.
    pub at: LookedAt,
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
    /// Reads what is wanted.
    pub(crate) fn read(asked: &ToLookAt) -> Result<Self, Trouble> {
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
        if let (Some(stage), true) = (&asked.stage, patterns.is_empty()) {
            patterns.push(Pattern::parse(&format!("@{stage}"))?);
        }
        Ok(Wanted::Outlets(patterns))
    }

    /// The same of what is looked at: where that is of one stage, it need not be named again.
    pub(crate) fn within(self, sight: &Sight) -> Result<Self, Trouble> {
        let Wanted::Outlets(mut patterns) = self else { return Ok(self) };
        if patterns.is_empty() {
            for text in sight.whole() {
                patterns.push(Pattern::parse(&text)?);
            }
        }
        let Some(stage) = sight.stage() else { return Ok(Wanted::Outlets(patterns)) };
        for pattern in &mut patterns {
            if !pattern.has_stage() {
                *pattern = Pattern::parse(&format!("{pattern}@{stage}"))?;
            } else if pattern.to_string().split_once('@').is_none_or(|(_, named)| named != stage.as_str()) {
                let message = format!("{} is of `{stage}`, and `{pattern}` is not", sight.word());
                return Err(Trouble::usage(message).help(format!("write @{stage}, or leave the stage out")));
            }
        }
        Ok(Wanted::Outlets(patterns))
    }

    /// How much of the ledger it takes.
    pub(crate) fn scope(&self) -> Scope {
        match self {
            Wanted::Folder(address, _) => scope_of([&**address]),
            Wanted::Outlets(_) => Scope::Whole,
        }
    }

    /// The places that are meant.
    fn places<'l>(&self, opened: &'l Opened, around: &Around<'l>) -> Result<Vec<Place<'l>>, Trouble> {
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

/// Looks, and gives what is seen, with values that are looked up and the day from which last days are counted.
pub(crate) fn see<R>(
    opened: &Opened,
    wanted: &Wanted,
    today: Option<&str>,
    sight: Sight,
    then: impl FnOnce(Vec<Looked<'_>>, &[Lookup<'_>], Date) -> Result<R, Trouble>,
) -> Result<R, Trouble> {
    let (at, ledger, keys) = (&opened.at, &opened.ledger, opened.keys());
    let telling = &*at.telling;
    let is_live = matches!(sight, Sight::Outlets);
    // Who has moved since a delivery is asked of what outlets have.
    let is_of_outlets = matches!(sight, Sight::Outlets | Sight::Captured(_));
    // In place of outlets something that is kept is read, and nothing is reached.
    let around = if is_live { Around::of(opened) } else { Around::unreached(opened) };
    let today = at.day(today)?;
    let lookups = match wanted {
        // What is looked up is neither in a folder, nor captured or delivered.
        Wanted::Outlets(patterns) if is_live => {
            lookups::look_up(patterns, ledger, &opened.surroundings, &around, telling)?
        }
        Wanted::Outlets(_) | Wanted::Folder(..) => Vec::new(),
    };
    let places = match (&sight, wanted) {
        (Sight::CapturedLedger(capture), Wanted::Outlets(patterns)) => {
            let stage = known_stage(ledger, capture.stage.as_str())?;
            places::said(patterns, ledger, stage).map(|place| vec![place])
        }
        _ => wanted.places(opened, &around),
    };
    let mut places = match places {
        // Values that are looked up are something to look at, too.
        Err(trouble) if !lookups.is_empty() && trouble.kind() != Kind::Refused => Vec::new(),
        places => places?,
    };
    let (captured, delivered);
    let seeing = match sight {
        Sight::Outlets => Seeing::Live(telling),
        Sight::Captured(file) | Sight::CapturedLedger(file) => {
            captured = Captured::of_file(file, keys);
            Seeing::Capture(&captured)
        }
        Sight::Delivered(meant, numbered) => {
            pass_over_programs(&mut places, telling);
            delivered = Delivered::read(opened, &places, (&meant, numbered.as_ref()))?;
            Seeing::Delivered(&delivered)
        }
    };
    let mut book = daybook::reading(opened)?;
    let remains = match (&mut book, is_live) {
        // What is kept has what was asked for when it was made.
        (Some(book), true) => Remains::read(&mut **book, ledger)?,
        _ => Remains::default(),
    };
    let mut looked = look_for(places, &opened.resolver(), today, seeing, &remains)?;
    if is_of_outlets {
        since::tell(book.as_deref_mut(), &mut looked, ledger, keys)?;
    }
    if let Some(mut book) = book {
        veiling::by_deliveries(&mut *book, looked.iter_mut().flat_map(|looked| &mut looked.units))?;
    }
    then(looked, &lookups, today)
}

/// Leaves out what is read from running programs: nothing is delivered to them.
fn pass_over_programs(places: &mut Vec<Place<'_>>, telling: &dyn Telling) {
    let programs = places.iter().filter(|place| place.is_process());
    let names: Vec<String> = programs.filter_map(|place| Some(place.outlet_name()?.0)).collect();
    if !names.is_empty() {
        let names = names.join(", ");
        telling.notice(&format!("Nothing is delivered to running programs: {names} is left out."));
        places.retain(|place| !place.is_process());
    }
}
