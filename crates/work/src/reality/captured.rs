//! Captures looked at in place of outlets.

use std::collections::BTreeMap;
use std::path::Path;

use cledger_core::address::{Address, Owner};
use cledger_core::cipher::KeyScope;
use cledger_core::drift::{Drifted, FileDrift, NameDrift};
use cledger_core::model::{Database, Ledger, OutputFormat};
use cledger_core::output::OutputName;
use cledger_core::tree::Tree;
use cledger_core::value::Value;
use cledger_formats::{Particulars, format, particulars};
use cledger_outlets::file::FileError;
use cledger_outlets::held::{FileThere, FilesThere, Held};
use cledger_outlets::read_back::ReadBack;
use cledger_store::{Capture, CapturedContent, CapturedFile, CapturedOutlet, CapturedUnit, Keys, Unsealed};
use zeroize::Zeroizing;

use crate::existing;

use crate::reality::making::Made;
use crate::reality::places::Place;
use crate::trouble::Trouble;

/// What a cipher text in a capture is bound to.
pub(crate) fn place_of(owner: &str, outlet: &str, path: &str, name: &[String]) -> String {
    format!("capture/{owner}/{outlet}/{path}/{}", name.join("/"))
}

/// What begins the name of a capture where something else could stand.
pub(crate) const CAPTURE: &str = "capture:";

/// What stands for an outlet's name and a file's path where a capture has what the ledger said.
pub(crate) const SAID_OUTLET: &str = "";
pub(crate) const SAID_PATH: &str = "fields";

/// What is said of a unit that was not captured.
pub(crate) const NOTHING_OF_UNIT: &str = "the capture has nothing of this unit";

/// A capture that is looked at in place of outlets.
pub(crate) struct Captured<'k> {
    pub(crate) file: Capture,
    pub(crate) keys: &'k Keys<'k>,
}

/// Values of one file that are not in the open.
pub(crate) type Veiled = Vec<(OutputName, Option<String>)>;

/// What was found of one place, be it in what was kept of it: as if it had been read back, and what is veiled, by unit and path.
#[derive(Default)]
pub(crate) struct Found {
    pub(crate) back: ReadBack,
    pub(crate) veiled: BTreeMap<(String, String), Veiled>,
}

impl<'k> Captured<'k> {
    /// Reads one; where it has a key of its own, its passphrase is asked for once something is opened.
    pub(crate) fn read(path: &Path, keys: &'k Keys<'k>) -> Result<Self, Trouble> {
        Ok(Self::of_file(existing::capture(path)?, keys))
    }

    /// The same of one that is read already.
    pub(crate) fn of_file(file: Capture, keys: &'k Keys<'k>) -> Self {
        keys.take_note(file.key.iter().map(|key| (key.id.clone(), key.text.clone())));
        Self { file, keys }
    }

    /// Who could read what nobody here can.
    pub(crate) fn readers(&self) -> &'static str {
        match self.file.key {
            Some(_) => "type its passphrase, or give it in CLEDGER_PASSPHRASE",
            None => "let a reader of the stage's key do it",
        }
    }

    /// What the capture has of an outlet, where the ledger makes these things of units.
    pub(crate) fn of(&self, outlet: &str, made: &BTreeMap<String, &Made<'_>>) -> Found {
        let mut found = Found::default();
        let Some(captured) = self.file.outlets.iter().find(|known| known.name.as_str() == outlet) else {
            found.back.trouble = Some("the capture has nothing of this outlet".to_owned());
            return found;
        };
        found.back.names.clone_from(&captured.unknown);
        for (owner, unit) in &captured.units {
            let held = match unit {
                CapturedUnit::NotThere => Held::NotThere,
                CapturedUnit::NotKnown { reason } => Held::NotKnown(reason.clone()),
                CapturedUnit::There { tag, files, .. } => {
                    let made = (&files[..], made.get(owner));
                    match self.unit((owner, captured), made, tag.as_ref(), &mut found.veiled) {
                        Ok(held) => held,
                        Err(reason) => Held::NotKnown(reason),
                    }
                }
            };
            found.back.units.insert(owner.clone(), held);
        }
        if found.back.trouble.is_none() {
            found.back.trouble = Some(NOTHING_OF_UNIT.to_owned());
        }
        found
    }

    /// What it has of what the ledger said, by the names that its units and instances have now.
    pub(crate) fn said(&self, ledger: &Ledger) -> Found {
        let mut found = Found::default();
        found.back.trouble = Some(NOTHING_OF_UNIT.to_owned());
        for (owner, unit) in self.file.said.iter().flatten() {
            let CapturedUnit::There { files, .. } = unit else { continue };
            let now = now_called(ledger, owner);
            found.back.names.push(now.clone());
            for file in files {
                let held = self.tree(owner, SAID_OUTLET, file).and_then(|(tree, hidden)| {
                    found.veiled.insert((now.clone(), file.path.clone()), hidden);
                    let written =
                        format(OutputFormat::Json, Particulars::default()).map(|it| it.write(&tree));
                    let text = written.ok_or_else(|| "JSON cannot be written".to_owned())?;
                    Ok(Held::Document(Zeroizing::new(text.map_err(|error| error.to_string())?), None))
                });
                found.back.units.insert(now.clone(), held.unwrap_or_else(Held::NotKnown));
            }
        }
        found
    }

    fn unit(
        &self,
        (owner, outlet): (&str, &CapturedOutlet),
        (files, made): (&[CapturedFile], Option<&&Made<'_>>),
        tag: Option<&String>,
        veiled: &mut BTreeMap<(String, String), Veiled>,
    ) -> Result<Held, String> {
        let (mut texts, mut others) = (BTreeMap::new(), Vec::new());
        for file in files {
            let (tree, hidden) = self.tree(owner, outlet.name.as_str(), file)?;
            veiled.insert((owner.to_owned(), file.path.clone()), hidden);
            match outlet.kind.as_str() {
                kind if Database::of_kind(kind).is_some() => return Ok(Held::Rows(texts_of(&tree))),
                "process" => {
                    let texts = texts_of(&tree).into_iter();
                    return Ok(Held::Environment(
                        texts.map(|(name, text)| (name, text.to_string())).collect(),
                    ));
                }
                _ => {}
            }
            let this = OutputFormat::ALL.iter().find(|(_, name)| *name == file.format).map(|(this, _)| *this);
            let text = match (&file.trouble, &file.text, this) {
                _ if file.not_there => Err(FileError::NotThere),
                (Some(trouble), ..) => Err(FileError::Io(std::io::Error::other(trouble.clone()))),
                (None, Some(text), _) => {
                    let place = place_of(owner, outlet.name.as_str(), &file.path, &[]);
                    match self.opened(&place, text) {
                        Some(Value::Text(text)) => Ok(Zeroizing::new(text.to_string())),
                        _ => Err(FileError::Io(std::io::Error::other("the capture does not show its text"))),
                    }
                }
                (None, None, Some(this)) => {
                    let output = made.and_then(|made| made.output(&file.path));
                    let form = format(this, output.map(particulars).unwrap_or_default());
                    let written = form.map(|form| form.write(&tree));
                    match written {
                        Some(Ok(text)) => Ok(Zeroizing::new(text)),
                        Some(Err(error)) => Err(FileError::Io(std::io::Error::other(error.to_string()))),
                        None => Err(FileError::NotText),
                    }
                }
                (None, None, None) => return Err(format!("the capture names a format `{}`", file.format)),
            };
            if outlet.kind == "http" {
                return text
                    .map(|text| Held::Document(text, tag.cloned()))
                    .map_err(|error| error.to_string());
            }
            if file.theirs {
                others.push(file.path.clone());
            }
            texts.insert(file.path.clone(), text.map(|text| FileThere { text, mode: None }));
        }
        Ok(Held::Files(FilesThere { files: texts, others, has_more: false }))
    }

    /// The values of a file, or its text under no name where no format reads it, and those that are not in the open.
    pub(crate) fn tree(
        &self,
        owner: &str,
        outlet: &str,
        file: &CapturedFile,
    ) -> Result<(Tree, Veiled), String> {
        let (mut tree, mut veiled) = (Tree::default(), Veiled::new());
        if let Some(text) = &file.text {
            let known =
                OutputFormat::ALL.iter().find(|(_, name)| *name == file.format).map(|(this, _)| *this);
            let opened = self.opened(&place_of(owner, outlet, &file.path, &[]), text);
            match (opened, known, text) {
                (Some(Value::Text(text)), Some(this), _) => {
                    match existing::read(&text, this, Particulars::default()) {
                        Ok(found) => return Ok((found.tree, veiled)),
                        Err(_) => tree.0.extend([("".into(), Value::Text(text))]),
                    }
                }
                (Some(text), ..) => tree.0.extend([("".into(), text)]),
                (None, _, CapturedContent::Fingerprint(print)) => {
                    veiled.push((Vec::new(), Some(print.clone())));
                }
                (None, ..) => veiled.push((Vec::new(), None)),
            }
        }
        for value in &file.values {
            let place = place_of(owner, outlet, &file.path, &value.name);
            match (self.opened(&place, &value.content), &value.content) {
                (Some(found), _) => tree.insert(&value.name, found),
                (None, CapturedContent::Fingerprint(print)) => {
                    veiled.push((value.name.clone(), Some(print.clone())));
                }
                (None, CapturedContent::Open(_)) => {
                    return Err(format!("the capture has no value for `{}`", value.name.join(".")));
                }
                (None, _) => veiled.push((value.name.clone(), None)),
            }
        }
        Ok((tree, veiled))
    }

    /// Whose key its secrets are encrypted under, be that one of its own.
    fn scope(&self) -> KeyScope {
        KeyScope::Stage(self.file.stage.clone())
    }

    fn opened(&self, place: &str, content: &CapturedContent) -> Option<Value> {
        match content {
            CapturedContent::Open(json) => Value::from_json(json.clone()),
            CapturedContent::Fingerprint(_) | CapturedContent::LeftOut(_) => None,
            CapturedContent::CipherText(text) => {
                match self.keys.look_into((&self.scope(), &self.scope()), text, place) {
                    Unsealed::Text(text) => Value::from_json(serde_json::from_str(&text).ok()?),
                    Unsealed::NotAtHand | Unsealed::Damaged(_) => None,
                }
            }
        }
    }

    /// Takes for a secret what the capture has as one, whatever the ledger has in its place by now.
    pub(crate) fn veil(
        &self,
        ledger: &Ledger,
        (place, owner, path): (&Place<'_>, &str, &str),
        drift: &mut FileDrift,
    ) {
        let unit = match &place.outlet {
            Some(outlet) => {
                let captured = self.file.outlets.iter().find(|known| known.name == outlet.name);
                captured.and_then(|captured| captured.units.get(owner))
            }
            None => self.said_of(ledger, owner),
        };
        let Some(CapturedUnit::There { files, .. }) = unit else { return };
        let Some(file) = files.iter().find(|file| file.path == path) else { return };
        match drift {
            FileDrift::Drifted(names) => {
                for name in names.iter_mut().filter(|name| name.there.is_some()) {
                    if file.is_secret(&name.steps) {
                        name.veil();
                    }
                }
            }
            FileDrift::TextDiffers { has_secret, .. } => *has_secret |= file.is_secret(&[]),
            _ => {}
        }
    }

    /// What the ledger said of a unit or instance, be it under a name that it had before.
    fn said_of(&self, ledger: &Ledger, owner: &str) -> Option<&CapturedUnit> {
        let said = self.file.said.as_ref()?;
        said.get(owner).or_else(|| {
            let Some(Owner::Unit(unit, instance)) = Address::parse(owner).ok()?.owner else { return None };
            let mut formerly = ledger.unit(ledger.unit_id(unit.as_str())?).formerly.iter();
            formerly.find_map(|then| said.get(&Owner::Unit(then.name.clone(), instance.clone()).to_string()))
        })
    }

    /// Says of veiled values what can be said: they are as they should be, they differ, or nobody can tell.
    pub(crate) fn unveil(&self, made: &Made<'_>, path: &str, veiled: &Veiled, drift: &mut FileDrift) {
        let print = |text: &str| Some(self.keys.key(&self.scope()).ok()?.key.fingerprint(text));
        if !matches!(drift, FileDrift::AsLedger | FileDrift::Drifted(_)) {
            return;
        }
        let mut names = match std::mem::replace(drift, FileDrift::AsLedger) {
            FileDrift::Drifted(names) => names,
            _ => Vec::new(),
        };
        let known: BTreeMap<OutputName, Option<Value>> =
            made.values(path).into_iter().map(|(name, value, _)| (name, value)).collect();
        for (name, fingerprint) in veiled {
            let at = names.iter().position(|drifted| drifted.steps == *name);
            match (known.get(name), at) {
                (Some(value), Some(at)) => {
                    let ours = value.as_ref().and_then(|value| print(&Zeroizing::new(value.to_text())));
                    match (fingerprint, ours) {
                        (Some(theirs), Some(ours)) if *theirs == ours => drop(names.remove(at)),
                        (Some(_), Some(_)) => names[at].what = NameDrift::Differs,
                        _ => names[at].what = NameDrift::Unreadable,
                    }
                }
                (Some(_), None) => {}
                (None, _) => names.push(Drifted::extra(name.clone(), None)),
            }
        }
        if !names.is_empty() {
            *drift = FileDrift::Drifted(names);
        }
    }
}

/// The name that a unit or instance has by now.
fn now_called(ledger: &Ledger, owner: &str) -> String {
    let then = Address::parse(owner).ok().and_then(|address| address.owner);
    let gone = then.filter(|then| ledger.unit_id(then.names().0).is_none());
    gone.and_then(|then| ledger.now_called(&then)).map_or_else(|| owner.to_owned(), |now| now.to_string())
}

fn texts_of(tree: &Tree) -> BTreeMap<String, Zeroizing<String>> {
    let texts =
        tree.0.iter().map(|(name, value)| (name.to_string(), Zeroizing::new(value.to_text().to_string())));
    texts.collect()
}
