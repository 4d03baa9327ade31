//! Looking at outlets, and comparing what they hold with what the ledger makes for them.

use std::collections::BTreeMap;
use std::rc::Rc;

use cledger_core::drift::{self, FileDrift, Observed};
use cledger_core::environment::{Environment, environment};
use cledger_core::model::{Ledger, OutputFormat, StageId, Subject};
use cledger_core::output::OutputName;
use cledger_core::render::{ContentError, RenderedOutput, Rendering, content, rendering};
use cledger_core::resolve::Resolver;
use cledger_core::tree::Tree;
use cledger_core::value::Value;
use cledger_formats::{particulars, text_of};
use cledger_outlets::file::FileError;
use cledger_outlets::read_back::Held;
use jiff::civil::Date;
use zeroize::Zeroizing;

use super::captured::{Captured, FromCapture};
use super::{Place, State, UnitDrift, read_all};
use crate::app::unit_of;
use crate::error::CliError;
use crate::existing::{self, ExistingError};
use crate::output::console::Console;

/// What the ledger makes for a unit at a place.
pub(crate) enum Made<'l> {
    /// Its files.
    Files(Rc<Rendering<'l>>),
    /// What stands in an outlet of names and values.
    Content(Result<RenderedOutput<'l>, ContentError>),
    /// The environment of its programs.
    Environment(Environment<'l>),
}

impl<'l> Made<'l> {
    /// One of its files, or what else holds names and values.
    pub(crate) fn output(&self, path: &str) -> Option<&RenderedOutput<'l>> {
        match self {
            Made::Files(rendering) => rendering.outputs.iter().find(|output| output.path == path),
            Made::Content(output) => output.as_ref().ok(),
            Made::Environment(_) => None,
        }
    }

    /// The names that stand there, with their values; `None` where a secret is not readable here.
    pub(crate) fn values(&self, path: &str) -> Vec<(OutputName, Option<&Value>, bool)> {
        if let Made::Environment(environment) = self {
            let variables = environment.variables.iter();
            let named = variables.map(|(name, (_, it))| (vec![name.clone()], it.expose(), it.secret));
            return named.collect();
        }
        let values = self.output(path).into_iter().flat_map(|output| &output.values);
        values.map(|(name, (_, value))| (name.clone(), value.expose(), value.secret)).collect()
    }

    /// The format of one of its files, or of what else there is.
    pub(crate) fn format_of(&self, path: &str) -> OutputFormat {
        self.output(path).map_or(OutputFormat::Dotenv, |output| output.output.format)
    }
}

/// A unit or instance at a place.
pub(crate) struct Look<'l> {
    pub(crate) subject: Subject,
    pub(crate) made: Made<'l>,
    /// What was there; `None` where it was not reached in time.
    pub(crate) held: Option<Held>,
}

/// A place, and what was seen there.
pub(crate) struct Looked<'l> {
    pub(crate) place: Place<'l>,
    pub(crate) looks: Vec<Look<'l>>,
    /// How each of these stands, and units that the ledger does not know.
    pub(crate) units: Vec<UnitDrift>,
}

/// Where one looks.
#[derive(Clone, Copy)]
pub(crate) enum Seeing<'s> {
    /// At the outlets themselves, with a word on the console while it lasts.
    Live(&'s Console),
    /// At what was captured of them.
    Capture(&'s Captured<'s>),
}

/// Looks at all places at once.
pub(crate) fn look<'l>(
    mut places: Vec<Place<'l>>,
    resolver: &Resolver<'l>,
    today: Date,
    at: Seeing<'_>,
) -> Result<Vec<Looked<'l>>, CliError> {
    let ledger = resolver.ledger();
    let mut renderings: BTreeMap<(StageId, Subject), Rc<Rendering<'l>>> = BTreeMap::new();
    let mut all_made = Vec::new();
    for place in &mut places {
        let mut made = Vec::new();
        for subject in place.subjects.clone() {
            let (this, files) = make(place, subject, resolver, &mut renderings);
            place.ask(ledger, subject, files)?;
            made.push(this);
        }
        all_made.push(made);
    }
    let found: Vec<FromCapture> = match at {
        Seeing::Live(console) => {
            let sources: Vec<_> = places.iter().map(|place| place.source.clone()).collect();
            let backs = read_all(&sources, console, "outlets");
            backs.into_iter().map(|back| FromCapture { back, ..FromCapture::default() }).collect()
        }
        Seeing::Capture(capture) => {
            let of = |(place, made): (&Place<'l>, &Vec<Made<'l>>)| {
                let owners = place.subjects.iter().map(|&subject| ledger.owner(subject).to_string());
                let name = place.outlet_name().unwrap_or_default().0;
                capture.of(&name, ledger, &owners.zip(made).collect())
            };
            places.iter().zip(&all_made).map(of).collect()
        }
    };
    let mut looked = Vec::new();
    for ((place, made), FromCapture { mut back, veiled }) in places.into_iter().zip(all_made).zip(found) {
        let (mut looks, mut units) = (Vec::new(), Vec::new());
        for (&subject, made) in place.subjects.iter().zip(made) {
            let owner = ledger.owner(subject).to_string();
            let held = back.units.remove(&owner);
            let look = Look { subject, made, held };
            let mut state = match &look.held {
                None => State::NotKnown(place.trouble(&back)),
                Some(held) => state(ledger, &look, held),
            };
            if let State::There(files) = &mut state {
                for (path, file) in files {
                    if let (Seeing::Capture(capture), Some(veiled)) =
                        (at, veiled.get(&(owner.clone(), path.clone())))
                    {
                        capture.unveil(ledger, &look.made, path, veiled, file);
                    }
                    file.keep(|name| place.keeps(name));
                    file.waive(ledger, today);
                }
            }
            units.push(unit(&place, ledger, owner, state));
            looks.push(look);
        }
        let unknown = place.unknown(ledger, &back).into_iter();
        units.extend(unknown.map(|name| unit(&place, ledger, name.clone(), State::Unknown)));
        looked.push(Looked { place, looks, units });
    }
    Ok(looked)
}

/// What the ledger makes for a unit at a place.
pub(crate) fn make_alone<'l>(place: &Place<'l>, subject: Subject, resolver: &Resolver<'l>) -> Made<'l> {
    make(place, subject, resolver, &mut BTreeMap::new()).0
}

/// What the ledger makes for a unit at a place, and the files that are asked for.
fn make<'l>(
    place: &Place<'l>,
    subject: Subject,
    resolver: &Resolver<'l>,
    renderings: &mut BTreeMap<(StageId, Subject), Rc<Rendering<'l>>>,
) -> (Made<'l>, Vec<String>) {
    let session = || resolver.session(unit_of(subject));
    if place.is_process() {
        let made = environment(&mut session(), subject, place.stage);
        return (Made::Environment(made), Vec::new());
    }
    if let Some(output) = place.outlet.and_then(|outlet| outlet.kind.output()) {
        return (Made::Content(content(&mut session(), output, subject, place.stage)), Vec::new());
    }
    let rendering = renderings
        .entry((place.stage, subject))
        .or_insert_with(|| Rc::new(rendering(&mut session(), subject, place.stage)))
        .clone();
    let files = rendering.outputs.iter().map(|output| output.path.clone()).collect();
    (Made::Files(rendering), files)
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
        (Made::Files(rendering), _) if rendering.outputs.is_empty() => State::NothingRendered,
        (Made::Files(rendering), Held::Files(files)) => {
            let file = |output: &RenderedOutput<'_>| {
                (output.path.clone(), file(ledger, output, files.get(&output.path)))
            };
            State::There(rendering.outputs.iter().map(file).collect())
        }
        (Made::Content(Ok(output)), Held::Document(text, _)) => {
            let found = existing::read(text, OutputFormat::Json, particulars(output));
            let observed = found.map_or_else(not_there, |found| Observed::Tree(found.tree));
            State::There(vec![("document".to_owned(), drift::of_output(ledger, output, observed))])
        }
        (Made::Content(Ok(output)), Held::Rows(values)) => {
            let values = values.iter().map(|(name, value)| (name.as_str().into(), Value::text(value)));
            let observed = Observed::Tree(Tree(values.collect()));
            State::There(vec![("rows".to_owned(), drift::of_output(ledger, output, observed))])
        }
        (Made::Environment(made), Held::Environment(variables)) => {
            let drift = drift::of_environment(ledger, made, variables);
            State::There(vec![("environment".to_owned(), drift)])
        }
        _ => State::NotThere,
    }
}

/// How a file stands.
fn file(
    ledger: &Ledger,
    output: &RenderedOutput<'_>,
    found: Option<&Result<Zeroizing<String>, FileError>>,
) -> FileDrift {
    let text = match found {
        None | Some(Err(FileError::NotThere)) => return FileDrift::NotThere,
        Some(Err(error)) => return FileDrift::Unreadable(error.to_string()),
        Some(Ok(text)) => text,
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
