//! Looking at outlets, and comparing what they hold with what the ledger makes for them.

use std::collections::BTreeMap;
use std::rc::Rc;

use cledger_core::address::Owner;
use cledger_core::drift::{self, FileDrift, Observed};
use cledger_core::model::{Ledger, OutputFormat, StageId, Subject};
use cledger_core::render::{RenderedOutput, Rendering, value_of_row};
use cledger_core::resolve::Resolver;
use cledger_core::tree::Tree;
use cledger_formats::{Particulars, particulars, text_of};
use cledger_outlets::file::FileError;
use cledger_outlets::held::{FileThere, Held};
use cledger_outlets::read_back::{ReadBack, Source, read_back};
use jiff::civil::Date;
use zeroize::Zeroizing;

use crate::asking::Telling;
use crate::existing::{self, ExistingError};
use crate::reality::captured::{Captured, Found, SAID_PATH};
use crate::reality::delivered::Delivered;
use crate::reality::looked::{Look, Looked};
use crate::reality::making::{Made, make};
use crate::reality::places::{Place, holder};
use crate::reality::remains::Remains;
use crate::reality::rows::values_of;
use crate::reality::standing::{State, UnitDrift};
use crate::reality::veiling;
use crate::trouble::Trouble;

/// Where one looks.
#[derive(Clone, Copy)]
pub(crate) enum Seeing<'s> {
    /// At the outlets themselves, with a word on the console while it lasts.
    Live(&'s dyn Telling),
    /// At what was captured of them.
    Capture(&'s Captured<'s>),
    /// At what was delivered to them.
    Delivered(&'s Delivered),
}

/// Looks at all places at once.
pub(crate) fn look<'l>(
    places: Vec<Place<'l>>,
    resolver: &Resolver<'l>,
    today: Date,
    at: Seeing<'_>,
) -> Result<Vec<Looked<'l>>, Trouble> {
    look_for(places, resolver, today, at, &Remains::default())
}

/// The same, and also for what was brought there and may still be there.
pub(crate) fn look_for<'l>(
    mut places: Vec<Place<'l>>,
    resolver: &Resolver<'l>,
    today: Date,
    at: Seeing<'_>,
    remains: &Remains,
) -> Result<Vec<Looked<'l>>, Trouble> {
    let ledger = resolver.ledger();
    let mut renderings: BTreeMap<(StageId, Subject), Rc<Rendering<'l>>> = BTreeMap::new();
    let mut all_made = Vec::new();
    let mut all_gone = Vec::new();
    for place in &mut places {
        let mut made = Vec::new();
        let outlet = place.outlet_name().map(|(name, _)| name).unwrap_or_default();
        let stage = ledger.stage(place.stage).name.as_str();
        let with_remains = |owner: &Owner, mut files: Vec<String>| {
            let paths = remains.paths(&owner.to_string(), stage, &outlet).into_iter();
            files.extend(paths.filter(|path| !files.contains(path)).collect::<Vec<_>>());
            files
        };
        for subject in place.subjects.clone() {
            let (this, files) = make(place, subject, resolver, &mut renderings);
            let owner = ledger.owner(subject);
            let files = with_remains(&owner, files);
            place.ask(ledger, &owner, files)?;
            if let Made::Content(Ok(output)) = &this {
                place.say(&owner, vec![values_of(&output.tree())]);
            }
            made.push(this);
        }
        let mut gone = if place.is_whole { remains.gone(ledger, place.stage, &outlet) } else { Vec::new() };
        gone.retain(|owner| {
            place.outlet.is_none_or(|outlet| {
                ledger.takes(outlet, place.stage, owner)
                    && holder(ledger, outlet, place.stage, owner).is_none()
            })
        });
        for owner in &gone {
            let files = with_remains(owner, Vec::new());
            place.ask(ledger, owner, files)?;
        }
        all_made.push(made);
        all_gone.push(gone);
    }
    let found: Vec<Found> = match at {
        Seeing::Live(telling) => {
            let sources: Vec<_> = places.iter().map(|place| place.source.clone()).collect();
            let backs = read_all(&sources, telling, "outlets");
            backs.into_iter().map(|back| Found { back, ..Found::default() }).collect()
        }
        Seeing::Capture(capture) => {
            let of = |(place, made): (&Place<'l>, &Vec<Made<'l>>)| {
                if place.is_ledger {
                    return capture.said(ledger);
                }
                let owners = place.subjects.iter().map(|&subject| ledger.owner(subject).to_string());
                let name = place.outlet_name().unwrap_or_default().0;
                capture.of(&name, &owners.zip(made).collect())
            };
            places.iter().zip(&all_made).map(of).collect()
        }
        Seeing::Delivered(delivered) => {
            places.iter().zip(&all_made).map(|(place, made)| delivered.of(ledger, place, made)).collect()
        }
    };
    let all = places.into_iter().zip(all_made).zip(all_gone).zip(found);
    Ok(all
        .map(|(((place, made), gone), found)| {
            let mut this = judged(place, made, &gone, found, (ledger, today, at));
            veiling::by_content(&mut this, resolver);
            this
        })
        .collect())
}

/// What a place holds of each unit, of those that are gone from the ledger, and of names that it does not know.
fn judged<'l>(
    place: Place<'l>,
    all_made: Vec<Made<'l>>,
    gone: &[Owner],
    found: Found,
    (ledger, today, at): (&'l Ledger, Date, Seeing<'_>),
) -> Looked<'l> {
    let Found { mut back, veiled } = found;
    let (mut looks, mut units) = (Vec::new(), Vec::new());
    for (&subject, made) in place.subjects.iter().zip(all_made) {
        let owner = ledger.owner(subject).to_string();
        let held = back.units.remove(&owner);
        let tables = back.tables.remove(&owner);
        let look = Look { subject, made, held, tables };
        let mut state = match &look.held {
            None => State::NotKnown(place.trouble(&back)),
            Some(held) => state(ledger, &look, held),
        };
        if let State::There(files) = &mut state {
            for (path, file) in files {
                if let Seeing::Capture(capture) = at {
                    if let Some(veiled) = veiled.get(&(owner.clone(), path.clone())) {
                        capture.unveil(&look.made, path, veiled, file);
                    }
                    capture.veil(ledger, (&place, &owner, path), file);
                }
                file.keep(|name| place.keeps(name));
                if matches!(file, FileDrift::Theirs) && place.keeps(path) {
                    *file = FileDrift::AsLedger;
                }
                file.waive(ledger, today);
            }
        }
        units.push(unit(&place, ledger, owner, state));
        looks.push(look);
    }
    for owner in gone {
        let now = ledger.now_called(owner).map(|now| now.to_string());
        let owner = owner.to_string();
        back.names.retain(|name| *name != owner);
        let is_there = match back.units.remove(&owner) {
            None | Some(Held::NotThere) => false,
            Some(Held::Files(there)) => {
                there.files.values().any(|file| !matches!(file, Err(FileError::NotThere)))
            }
            Some(_) => true,
        };
        if is_there {
            units.push(unit(&place, ledger, owner, State::LeftOver(now)));
        }
    }
    let unknown = place.unknown(ledger, &back).into_iter();
    units.extend(unknown.map(|name| unit(&place, ledger, name.clone(), State::Unknown)));
    Looked { place, looks, units, trouble: back.trouble }
}

fn unit(place: &Place<'_>, ledger: &Ledger, owner: String, state: State) -> UnitDrift {
    UnitDrift {
        owner,
        stage: ledger.stage(place.stage).name.to_string(),
        outlet: place.outlet_name(),
        state,
        last: None,
    }
}

/// How what is there stands to what the ledger makes.
fn state(ledger: &Ledger, look: &Look<'_>, held: &Held) -> State {
    match (&look.made, held) {
        (_, Held::NotKnown(reason)) => State::NotKnown(reason.clone()),
        (Made::Content(Err(error)), _) => State::NotKnown(error.to_string()),
        (Made::Files(rendering), held) if rendering.outputs.is_empty() && has_no_file(held) => {
            State::NothingRendered
        }
        (Made::Files(rendering), Held::Files(files)) => {
            let file = |output: &RenderedOutput<'_>| {
                (output.path.clone(), file(ledger, output, files.files.get(&output.path)))
            };
            let mut all: Vec<(String, FileDrift)> = rendering.outputs.iter().map(file).collect();
            let is_rendered = |path: &String| rendering.outputs.iter().any(|output| output.path == *path);
            // A capture has what is theirs with its text.
            let is_left = |path: &String, file: &Result<FileThere, FileError>| {
                !is_rendered(path)
                    && !files.others.contains(path)
                    && !matches!(file, Err(FileError::NotThere))
            };
            let left = files.files.iter().filter(|(path, file)| is_left(path, file));
            all.extend(left.map(|(path, _)| (path.clone(), FileDrift::LeftOver)));
            all.extend(files.others.iter().map(|path| (path.clone(), FileDrift::Theirs)));
            State::There(all)
        }
        (Made::Content(Ok(output)), Held::Document(text, _)) => {
            let found = existing::read(text, OutputFormat::Json, particulars(output));
            let observed = found.map_or_else(not_there, |found| Observed::Tree(found.tree));
            State::There(vec![("document".to_owned(), drift::of_output(ledger, output, observed))])
        }
        (Made::Content(Ok(output)), Held::Rows(values)) => {
            let apart = &output.output.apart;
            let value = |(name, text): (&String, &Zeroizing<String>)| {
                (name.as_str().into(), value_of_row(apart, name, text))
            };
            let values = values.iter().map(value);
            let observed = Observed::Tree(Tree(values.collect()));
            State::There(vec![("rows".to_owned(), drift::of_output(ledger, output, observed))])
        }
        (Made::Environment(made), Held::Environment(variables)) => {
            let drift = drift::of_environment(ledger, made, variables);
            State::There(vec![("environment".to_owned(), drift)])
        }
        (Made::Fields(fields), Held::Document(text, _)) => {
            let found = existing::read(text, OutputFormat::Json, Particulars::default());
            let drift = match found {
                Ok(found) => drift::of_fields(ledger, fields, &found.tree),
                Err(reason) => FileDrift::Unreadable(reason.to_string()),
            };
            State::There(vec![(SAID_PATH.to_owned(), drift)])
        }
        _ => State::NotThere,
    }
}

/// Whether none of the files that were asked for is there.
fn has_no_file(held: &Held) -> bool {
    match held {
        Held::Files(there) => {
            there.others.is_empty()
                && there.files.values().all(|file| matches!(file, Err(FileError::NotThere)))
        }
        _ => true,
    }
}

/// How a file stands.
fn file(
    ledger: &Ledger,
    output: &RenderedOutput<'_>,
    found: Option<&Result<FileThere, FileError>>,
) -> FileDrift {
    let text = match found {
        None | Some(Err(FileError::NotThere)) => return FileDrift::NotThere,
        Some(Err(error)) => return FileDrift::Unreadable(error.to_string()),
        Some(Ok(there)) => &there.text,
    };
    if output.output.template.is_some() {
        return match text_of(output) {
            Ok(expected) => drift::of_text(&expected.text, Observed::Text(text.to_string())),
            Err(error) => FileDrift::Unreadable(error.to_string()),
        };
    }
    let read = existing::read(text, output.output.format, particulars(output));
    let observed = read.map_or_else(not_there, |found| Observed::Tree(found.tree));
    drift::of_output(ledger, output, observed)
}

fn not_there(reason: ExistingError) -> Observed {
    Observed::Unreadable(reason.to_string())
}

/// Reads sources back, and tells how far that is.
pub(crate) fn read_all(sources: &[Source], telling: &dyn Telling, what: &'static str) -> Vec<ReadBack> {
    let progress = telling.begins(sources.len(), what);
    read_back(sources, |heard| progress.done(heard))
}
