//! What the outlets of a stage hold now, and what the ledger says of it, written down.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use cledger_core::address::{Address, Owner, Pattern};
use cledger_core::cipher::KeyScope;
use cledger_core::drift::FileDrift;
use cledger_core::model::{LayerId, StageId, Subject};
use cledger_core::name::Name;
use cledger_outlets::held::Held;
use cledger_outlets::read_back::NOT_ALL;
use cledger_store::{
    Capture, CapturedContent, CapturedOutlet, CapturedUnit, DataKey, KeyError, KeyFile, OwnKey, Reader,
    Recipient, SecretString,
};

use crate::daybook;
use crate::existing::LARGEST_CAPTURE;
use crate::meant::known_stage;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::capturing::{Hiding, outlet};
use crate::reality::look::{Seeing, look};
use crate::reality::looked::Looked;
use crate::reality::places;
use crate::reality::saying::saying;
use crate::reality::standing::State;
use crate::reality::veiling;
use crate::reality::whole::{Beside, read_beside};
use crate::trouble::{Kind, Trouble};

pub use crate::reality::capturing::SecretsAs;

/// Where captures are kept that nobody named a place for.
const FOLDER: &str = "captures";

/// What is to be captured.
#[derive(Clone, Copy)]
pub struct ToCapture<'c> {
    /// The stage.
    pub address: &'c Address,
    /// Units and instances, or patterns of them; all that is there if none is given.
    pub units: &'c [String],
    /// What becomes of secrets.
    pub secrets: SecretsAs,
    /// Gives the passphrase that opens its secrets in place of the stage's key.
    pub passphrase: Option<&'c dyn Fn() -> Result<SecretString, Trouble>>,
    /// Why it is taken.
    pub why: Option<&'c str>,
    /// Whether what the ledger says of these units is kept as well.
    pub with_ledger: bool,
}

/// A capture that was made.
#[derive(Debug)]
pub struct Captured {
    /// What was written down.
    pub capture: Capture,
    /// Its text.
    pub text: String,
    /// How much of each outlet.
    pub counted: Vec<Counted>,
    /// What the ledger says and is not in it, each with the reason.
    pub unsaid: Vec<String>,
}

/// What was captured of one outlet.
#[derive(Debug, Clone)]
pub struct Counted {
    /// Its name.
    pub outlet: String,
    /// Its kind.
    pub kind: String,
    /// How many units are there.
    pub there: usize,
    /// How many of them the ledger does not know in this stage.
    pub unknown: usize,
    /// How many are not.
    pub not_there: usize,
    /// Why others could not be looked at, or the outlet as a whole.
    pub not_known: Vec<String>,
    /// What is there and is not in the capture, with the reason.
    pub left_out: Vec<String>,
    /// Whether it cannot tell which units it has, so that only those that are known or named were asked for.
    pub tells_no_names: bool,
}

impl Captured {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        if self.counted.iter().any(|outlet| !outlet.not_known.is_empty()) {
            Some(Kind::Outside)
        } else if !self.unsaid.is_empty() || self.counted.iter().any(|outlet| !outlet.left_out.is_empty()) {
            Some(Kind::Found)
        } else {
            None
        }
    }

    /// The file that it goes to where nobody named one, from the ledger's folder: one that is not there yet.
    pub fn usual_path(&self, folder: &Path) -> String {
        let time = self.capture.taken.split('.').next().unwrap_or_default();
        let time = time.trim_end_matches('Z').replace(':', "");
        let first = format!("{FOLDER}/{}-{time}.json", self.capture.stage);
        let next = |number: u32| format!("{FOLDER}/{}-{time}-{number}.json", self.capture.stage);
        let mut paths = std::iter::once(first.clone()).chain((2..=u32::MAX).map(next));
        paths.find(|path| !folder.join(path).exists()).unwrap_or(first)
    }
}

/// Writes down what the outlets of a stage hold, of these units alone if any is named, whether the ledger knows them
/// or not. Names and patterns of which nothing is there are refused.
pub fn capture(opened: &Opened, asked: &ToCapture<'_>) -> Result<Captured, Trouble> {
    let address = asked.address;
    let Some(stage) = address.stage.as_ref().filter(|_| address.owner.is_none()) else {
        let message = format!("`{address}` names no stage");
        return Err(Trouble::usage(message).help("write @STAGE, and units behind it"));
    };
    let (at, ledger, keys) = (&opened.at, &opened.ledger, opened.keys());
    let id = known_stage(ledger, stage.as_str())?;
    let named = Named::read(asked.units, stage)?;
    let scope = ledger.key_scope(LayerId::Stage(id));
    if asked.secrets != SecretsAs::LeftOut && asked.passphrase.is_none() && !keys.has_key(&scope) {
        let message = format!("`{stage}` has no key under which secrets could be captured");
        let help = format!(
            "make one: cledger key make @{stage} --write; or add --passphrase, or --secrets left-out"
        );
        return Err(Trouble::refused(message).help(help));
    }
    let own = asked.passphrase.map(|passphrase| own_key(&scope, passphrase)).transpose()?;
    let (resolver, around) = (opened.resolver(), Around::of(opened));
    let has_outlets = ledger.outlets.iter().any(|outlet| outlet.stages[usize::from(id.0)]);
    let mut places = if has_outlets || !asked.with_ledger {
        places::outlets(&[Pattern::parse(&format!("@{stage}"))?], ledger, &around)?
    } else {
        Vec::new()
    };
    for place in &mut places {
        place.subjects.retain(|subject| named.covers(&ledger.owner(*subject)));
    }
    let mut looked = look(places, &resolver, at.today()?, Seeing::Live(&*at.telling))?;
    let mut book = daybook::reading(opened)?;
    if let Some(book) = &mut book {
        veiling::by_deliveries(&mut **book, looked.iter_mut().flat_map(|looked| &mut looked.units))?;
    }
    let beside: Vec<Beside<'_>> = looked.iter().map(|looked| beside(opened, id, looked, &named)).collect();
    let found = read_beside(&beside, ledger, &*at.telling)?;
    let is_kept = |_: &Subject| asked.with_ledger;
    let said = ledger.subjects_in(id).filter(is_kept).map(|subject| ledger.owner(subject));
    named.refuse_nothing(stage, &looked, &found, (opened, said.collect()))?;
    let hiding = Hiding { keys, scope, how: asked.secrets, own: own.as_ref().map(|(file, _)| file) };
    let mut capture = Capture::new(&ledger.name, stage.clone(), at.now(), at.who.clone());
    (capture.why, capture.key) = (asked.why.map(str::to_owned), own.as_ref().map(|(_, key)| key.clone()));
    let mut counted = Vec::new();
    for (looked, found) in looked.iter().zip(found) {
        let captured = outlet(ledger, looked, found, &hiding)?;
        counted.push(count(&captured, looked, &named));
        capture.outlets.push(captured);
    }
    let mut unsaid = Vec::new();
    if asked.with_ledger {
        let saying = saying(opened, id, |owner| named.covers(owner), book.as_deref_mut(), &hiding)?;
        (capture.said, unsaid) = (Some(saying.units), saying.left_out);
    }
    let text = capture.to_text();
    if text.len() > LARGEST_CAPTURE {
        let message = format!("it would have {} MiB, and a capture has at most 64", text.len() >> 20);
        return Err(
            Trouble::usage(message).help("capture fewer units at a time: cledger capture @STAGE UNIT")
        );
    }
    Ok(Captured { capture, text, counted, unsaid })
}

/// A key of the capture's own, wrapped by a passphrase.
fn own_key(
    scope: &KeyScope,
    passphrase: &dyn Fn() -> Result<SecretString, Trouble>,
) -> Result<(KeyFile, OwnKey), Trouble> {
    let reader = Reader { name: scope.name().clone(), recipient: Recipient::passphrase() };
    let key = DataKey::generate().map_err(KeyError::Random)?;
    let file = KeyFile::new(scope.clone(), key, vec![reader]);
    let own = OwnKey { id: file.key.id(), text: file.wrap(Some(passphrase()?))? };
    Ok((file, own))
}

/// The units that somebody named.
struct Named(Vec<(String, Pattern)>);

impl Named {
    fn read(units: &[String], stage: &Name) -> Result<Self, Trouble> {
        let mut named = Vec::new();
        for unit in units {
            let pattern = Pattern::parse(&format!("{unit}@{stage}"))?;
            if pattern.has_entry() || unit.contains('@') {
                let message = format!("`{unit}` is no unit, and whole units are captured");
                return Err(
                    Trouble::usage(message).help("write UNIT, UNIT+INSTANCE, or a pattern such as 'quay-*'")
                );
            }
            named.push((unit.clone(), pattern));
        }
        Ok(Self(named))
    }

    fn covers(&self, owner: &Owner) -> bool {
        let (unit, instance) = owner.names();
        self.0.is_empty() || self.0.iter().any(|(_, pattern)| pattern.covers_owner(unit, instance))
    }

    /// Those that are one unit's or instance's name.
    fn owners(&self) -> impl Iterator<Item = Owner> {
        let owners = self.0.iter().filter_map(|(text, _)| Address::parse(text).ok()?.owner);
        owners.filter(|owner| *owner != Owner::Shared)
    }

    /// Refuses to go on where nothing is there of something that was named, or nothing at all.
    fn refuse_nothing(
        &self,
        stage: &Name,
        looked: &[Looked<'_>],
        found: &[BTreeMap<String, Held>],
        (opened, said): (&Opened, Vec<Owner>),
    ) -> Result<(), Trouble> {
        let is_something = |(_, held): &(&String, &Held)| !matches!(held, Held::NotThere | Held::NotKnown(_));
        let beside = found.iter().flatten().filter(is_something).map(|(owner, _)| owner.clone());
        let known = looked.iter().flat_map(|looked| &looked.looks);
        let owners: BTreeSet<String> =
            known.map(|look| opened.ledger.owner(look.subject).to_string()).chain(beside).collect();
        let owners = owners.iter().filter_map(|text| Address::parse(text).ok()?.owner);
        let owners: Vec<Owner> = owners.chain(said).collect();
        let not_known = found.iter().flatten().find_map(|(_, held)| match held {
            Held::NotKnown(reason) => Some(reason),
            _ => None,
        });
        let unreached = looked.iter().find_map(|looked| looked.trouble.as_ref()).or(not_known);
        let outlets: Vec<String> =
            looked.iter().filter_map(|looked| Some(looked.place.outlet_name()?.0)).collect();
        let nothing = |what: &str| {
            if let Some(reason) = unreached {
                let message = format!("nobody can tell whether there is anything of {what}: {reason}");
                return Trouble::outside(message);
            }
            let at = match &outlets[..] {
                [] => "in the ledger, and it has no outlet".to_owned(),
                outlets => format!("at {}", outlets.join(", ")),
            };
            let message = format!("there is nothing of {what} {at}");
            Trouble::usage(message).help("`cledger drift` shows what is there")
        };
        for (text, pattern) in &self.0 {
            let is_covered = |owner: &Owner| pattern.covers_owner(owner.names().0, owner.names().1);
            if !owners.iter().any(is_covered) {
                return Err(nothing(&format!("`{text}` in `{stage}`")));
            }
        }
        if owners.is_empty() { Err(nothing(&format!("`{stage}`"))) } else { Ok(()) }
    }
}

/// What is wanted of a place beside what the ledger makes for it.
fn beside<'l>(opened: &'l Opened, stage: StageId, looked: &Looked<'l>, named: &Named) -> Beside<'l> {
    let ledger = &opened.ledger;
    let known: BTreeSet<Owner> = ledger.subjects_in(stage).map(|subject| ledger.owner(subject)).collect();
    let mut whole: BTreeSet<Owner> =
        names_there(looked).filter_map(owner).filter(|owner| named.covers(owner)).collect();
    // Where nothing tells which units are there, those that are named are asked for.
    let takes = |owner: &Owner| looked.place.outlet.is_some_and(|outlet| outlet.takes(stage, owner.names()));
    whole.extend(named.owners().filter(|owner| !known.contains(owner) && takes(owner)));
    let mut files = BTreeMap::new();
    for (look, unit) in looked.looks.iter().zip(&looked.units) {
        let State::There(there) = &unit.state else { continue };
        let theirs = there.iter().filter(|(_, drift)| matches!(drift, FileDrift::Theirs));
        files.insert(ledger.owner(look.subject), theirs.map(|(path, _)| path.clone()).collect());
    }
    Beside { place: looked.place.clone(), whole, files }
}

/// The names of what is there and no unit of the stage is.
fn names_there<'u>(looked: &'u Looked<'_>) -> impl Iterator<Item = &'u str> {
    let unknown = looked.units.iter().filter(|unit| matches!(unit.state, State::Unknown));
    unknown.map(|unit| unit.owner.as_str())
}

/// The unit or instance with this name, if one could have it.
fn owner(name: &str) -> Option<Owner> {
    Address::parse(name).ok().filter(|address| address.entry.is_none() && address.stage.is_none())?.owner
}

/// How much of an outlet was captured.
fn count(captured: &CapturedOutlet, looked: &Looked<'_>, named: &Named) -> Counted {
    let units = || captured.units.values();
    let there = |unit: &CapturedUnit| matches!(unit, CapturedUnit::There { .. });
    let is_unknown = |owner: &&String| captured.units.get(*owner).is_some_and(there);
    let mut left_out = Vec::new();
    for (owner, unit) in &captured.units {
        let CapturedUnit::There { files, .. } = unit else { continue };
        for file in files {
            let path = &file.path;
            match (&file.text, &file.trouble) {
                (Some(CapturedContent::LeftOut(_)), _) => {
                    left_out.push(format!("{owner} {path}: what of it is no secret, nobody can tell"));
                }
                (None, Some(trouble)) => left_out.push(format!("{owner} {path}: {trouble}")),
                _ => {}
            }
        }
    }
    for (look, unit) in looked.looks.iter().zip(&looked.units) {
        if matches!(&look.held, Some(Held::Files(there)) if there.has_more) {
            left_out.push(format!("{}: {NOT_ALL}", unit.owner));
        }
    }
    if named.0.is_empty() {
        let nameless = names_there(looked).filter(|name| owner(name).is_none());
        left_out.extend(nameless.map(|name| format!("{name}: no unit can be called so")));
    }
    let reason = |unit: &CapturedUnit| match unit {
        CapturedUnit::NotKnown { reason } => Some(reason.clone()),
        _ => None,
    };
    let mut not_known: Vec<String> = units().filter_map(reason).collect();
    if not_known.is_empty() {
        not_known.extend(looked.trouble.clone());
    }
    Counted {
        outlet: captured.name.to_string(),
        kind: captured.kind.clone(),
        there: units().filter(|unit| there(unit)).count(),
        unknown: captured.unknown.iter().filter(is_unknown).count(),
        not_there: units().filter(|unit| matches!(unit, CapturedUnit::NotThere)).count(),
        not_known,
        left_out,
        tells_no_names: named.0.is_empty() && !looked.place.tells_names(),
    }
}

/// A capture in the ledger's folder for them.
#[derive(Debug)]
pub struct Listed {
    /// Its file, from the ledger's folder.
    pub path: String,
    /// What it is, or why it cannot be read.
    pub capture: Result<Capture, Trouble>,
}

/// The captures in the ledger's folder for them, by name; those that `--out` put elsewhere are not known.
pub fn list(opened: &Opened) -> Result<Vec<Listed>, Trouble> {
    let folder = opened.folder.join(FOLDER);
    let entries = match std::fs::read_dir(&folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(Trouble::outside(format!("`{FOLDER}/` cannot be read: {error}"))),
    };
    let names = entries.filter_map(|entry| Some(entry.ok()?.file_name().to_string_lossy().into_owned()));
    let mut names: Vec<String> =
        names.filter(|name| Path::new(name).extension().is_some_and(|it| it == "json")).collect();
    names.sort_unstable();
    let listed = |name: String| Listed {
        capture: crate::existing::capture(&folder.join(&name)),
        path: format!("{FOLDER}/{name}"),
    };
    Ok(names.into_iter().map(listed).collect())
}
