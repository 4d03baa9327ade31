//! Captures: what outlets hold, written down, and looked at again later.

use std::collections::BTreeMap;

use cledger_core::cipher::KeyScope;
use cledger_core::drift::{Drifted, FileDrift, NameDrift};
use cledger_core::model::{LayerId, Ledger, OutputFormat};
use cledger_core::output::OutputName;
use cledger_core::render::RenderedOutput;
use cledger_core::tree::Tree;
use cledger_core::value::{Held as HeldValue, Value};
use cledger_formats::{format, particulars};
use cledger_outlets::file::FileError;
use cledger_outlets::read_back::{Held, ReadBack};
use cledger_store::{
    Capture, CapturedContent, CapturedFile, CapturedOutlet, CapturedUnit, CapturedValue, Keys,
};
use zeroize::Zeroizing;

use super::look::Made;
use super::{Looked, State, UnitDrift};
use crate::error::CliError;
use crate::existing;

/// What becomes of secrets in a capture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum SecretsAs {
    /// Encrypted under the stage's key.
    Encrypted,
    /// As fingerprints that only readers of the stage's key can compare.
    Fingerprints,
    /// Not at all.
    LeftOut,
}

/// Hides the secrets of one stage.
pub(crate) struct Hiding<'k> {
    pub(crate) keys: &'k Keys<'k>,
    pub(crate) scope: KeyScope,
    pub(crate) how: SecretsAs,
}

impl Hiding<'_> {
    fn content(&self, place: &str, secret: bool, value: &Value) -> Result<CapturedContent, CliError> {
        if !secret {
            return Ok(CapturedContent::Open(value.to_json()));
        }
        let text = Zeroizing::new(value.to_json().to_string());
        Ok(match self.how {
            SecretsAs::Encrypted => CapturedContent::Sealed(self.keys.seal(&self.scope, place, &text)?),
            SecretsAs::Fingerprints => {
                let text = Zeroizing::new(value.to_text().to_string());
                CapturedContent::Fingerprint(self.keys.key(&self.scope)?.key.fingerprint(&text))
            }
            SecretsAs::LeftOut => CapturedContent::LeftOut(true),
        })
    }
}

/// What a cipher text in a capture is bound to.
fn place_of(owner: &str, outlet: &str, path: &str, name: &[String]) -> String {
    format!("capture/{owner}/{outlet}/{path}/{}", name.join("/"))
}

/// Writes down what was seen at one place.
pub(crate) fn outlet(
    ledger: &Ledger,
    looked: &Looked<'_>,
    hiding: &Hiding<'_>,
) -> Result<CapturedOutlet, CliError> {
    let (name, kind) = match looked.place.outlet {
        Some(outlet) => (outlet.name.clone(), outlet.kind.name()),
        None => return Err(CliError::usage("a folder is no outlet")),
    };
    let mut units = BTreeMap::new();
    for (look, unit) in looked.looks.iter().zip(&looked.units) {
        let captured = match (&look.held, &unit.state) {
            (Some(Held::NotThere), _) => CapturedUnit::NotThere,
            (Some(Held::NotKnown(reason)), _) | (None, State::NotKnown(reason)) => {
                CapturedUnit::NotKnown { reason: reason.clone() }
            }
            (Some(held), _) => {
                let id = ledger.unit_id(ledger.owner(look.subject).names().0);
                let files = files(unit, name.as_str(), &look.made, held, hiding)?;
                let tag = match held {
                    Held::Document(_, tag) => tag.clone(),
                    _ => None,
                };
                let version = id.and_then(|id| ledger.unit(id).version.clone());
                CapturedUnit::There { version, tag, files }
            }
            (None, _) => CapturedUnit::NotKnown { reason: "it was not looked at".to_owned() },
        };
        units.insert(unit.owner.clone(), captured);
    }
    let unknown = looked.units.iter().filter(|unit| matches!(unit.state, State::Unknown));
    let unknown = unknown.map(|unit| unit.owner.clone()).collect();
    Ok(CapturedOutlet { name, kind: kind.to_owned(), unknown, units })
}

fn files(
    unit: &UnitDrift,
    outlet: &str,
    made: &Made<'_>,
    held: &Held,
    hiding: &Hiding<'_>,
) -> Result<Vec<CapturedFile>, CliError> {
    let State::There(drifts) = &unit.state else { return Ok(Vec::new()) };
    let mut captured = Vec::new();
    for (path, drift) in drifts {
        let this = made.format_of(path);
        let mut file = CapturedFile {
            path: path.clone(),
            format: this.name().to_owned(),
            trouble: None,
            text: None,
            values: Vec::new(),
        };
        let place = |name: &[String]| place_of(&unit.owner, outlet, path, name);
        let output = made.output(path);
        let tree = match held {
            Held::Files(files) => match files.get(path) {
                None | Some(Err(FileError::NotThere)) => Err(FileError::NotThere.to_string()),
                Some(Err(error)) => Err(error.to_string()),
                Some(Ok(text)) if this == OutputFormat::Template => {
                    let secret = output.is_none_or(RenderedOutput::is_secret);
                    file.text = Some(hiding.content(&place(&[]), secret, &Value::text(text))?);
                    Ok(Tree::default())
                }
                Some(Ok(text)) => read(text, this, output),
            },
            Held::Document(text, _) => read(text, OutputFormat::Json, output),
            Held::Rows(rows) => Ok(Tree(
                rows.iter().map(|(name, value)| (name.as_str().into(), Value::text(value))).collect(),
            )),
            Held::Environment(variables) => {
                let all = variables.iter().map(|(name, value)| (name.as_str().into(), Value::text(value)));
                Ok(Tree(all.collect()))
            }
            Held::NotThere | Held::NotKnown(_) => Ok(Tree::default()),
        };
        match tree {
            Err(trouble) => file.trouble = Some(trouble),
            Ok(tree) => {
                for (name, secret) in known(made, path) {
                    if let Some(value) = tree.get(&name) {
                        let content = hiding.content(&place(&name), secret, value)?;
                        file.values.push(CapturedValue { name, content });
                    }
                }
                if let FileDrift::Drifted(names) = drift {
                    // Nobody has said that these are no secrets.
                    for extra in names.iter().filter(|name| name.what == NameDrift::ExtraThere) {
                        let Some(value) = &extra.there else { continue };
                        let content = hiding.content(&place(&extra.steps), true, value.expose())?;
                        file.values.push(CapturedValue { name: extra.steps.clone(), content });
                    }
                }
            }
        }
        captured.push(file);
    }
    Ok(captured)
}

fn read(text: &str, this: OutputFormat, output: Option<&RenderedOutput<'_>>) -> Result<Tree, String> {
    let particulars = output.map(particulars).unwrap_or_default();
    existing::read(text, this, particulars).map(|found| found.tree).map_err(|error| error.to_string())
}

/// The names that the ledger has there, and whether each is a secret.
fn known(made: &Made<'_>, path: &str) -> Vec<(OutputName, bool)> {
    let values = made.values(path).into_iter().map(|(name, _, secret)| (name, secret));
    let lacking = made.output(path).into_iter().flat_map(|output| output.lacking.keys());
    values.chain(lacking.map(|name| (name.clone(), true))).collect()
}

/// What begins the name of a capture where something else could stand.
pub(crate) const CAPTURE: &str = "capture:";

/// A capture that is looked at in place of outlets.
pub(crate) struct Captured<'k> {
    pub(crate) file: Capture,
    pub(crate) keys: &'k Keys<'k>,
}

/// Values of one file that are not in the open.
pub(crate) type Veiled = Vec<(OutputName, Option<String>)>;

/// What a capture has of one place: as if it had been read back, and what is veiled, by unit and path.
#[derive(Default)]
pub(crate) struct FromCapture {
    pub(crate) back: ReadBack,
    pub(crate) veiled: BTreeMap<(String, String), Veiled>,
}

impl Captured<'_> {
    /// What the capture has of an outlet, where the ledger makes these things of units.
    pub(crate) fn of(
        &self,
        outlet: &str,
        ledger: &Ledger,
        made: &BTreeMap<String, &Made<'_>>,
    ) -> FromCapture {
        let mut found = FromCapture::default();
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
                    match self.unit(
                        ledger,
                        (owner, captured),
                        (files, made.get(owner)),
                        tag.as_ref(),
                        &mut found.veiled,
                    ) {
                        Ok(held) => held,
                        Err(reason) => Held::NotKnown(reason),
                    }
                }
            };
            found.back.units.insert(owner.clone(), held);
        }
        if found.back.trouble.is_none() {
            found.back.trouble = Some("the capture has nothing of this unit".to_owned());
        }
        found
    }

    fn unit(
        &self,
        ledger: &Ledger,
        (owner, outlet): (&str, &CapturedOutlet),
        (files, made): (&[CapturedFile], Option<&&Made<'_>>),
        tag: Option<&String>,
        veiled: &mut BTreeMap<(String, String), Veiled>,
    ) -> Result<Held, String> {
        let mut texts = BTreeMap::new();
        for file in files {
            let (tree, hidden) = self.tree(ledger, owner, outlet.name.as_str(), file)?;
            veiled.insert((owner.to_owned(), file.path.clone()), hidden);
            match outlet.kind.as_str() {
                "postgres" => return Ok(Held::Rows(texts_of(&tree))),
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
                (Some(trouble), ..) if *trouble == FileError::NotThere.to_string() => {
                    Err(FileError::NotThere)
                }
                (Some(trouble), ..) => Err(FileError::Io(std::io::Error::other(trouble.clone()))),
                (None, Some(text), _) => {
                    let place = place_of(owner, outlet.name.as_str(), &file.path, &[]);
                    match self.opened(ledger, &place, text) {
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
            texts.insert(file.path.clone(), text);
        }
        Ok(Held::Files(texts))
    }

    /// The values of a file, and those that are not in the open.
    pub(crate) fn tree(
        &self,
        ledger: &Ledger,
        owner: &str,
        outlet: &str,
        file: &CapturedFile,
    ) -> Result<(Tree, Veiled), String> {
        let (mut tree, mut veiled) = (Tree::default(), Veiled::new());
        for value in &file.values {
            let place = place_of(owner, outlet, &file.path, &value.name);
            match (self.opened(ledger, &place, &value.content), &value.content) {
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

    fn opened(&self, ledger: &Ledger, place: &str, content: &CapturedContent) -> Option<Value> {
        match content {
            CapturedContent::Open(json) => Value::from_json(json.clone()),
            CapturedContent::Fingerprint(_) | CapturedContent::LeftOut(_) => None,
            CapturedContent::Sealed(text) => {
                let stage = ledger.stage_id(self.file.stage.as_str())?;
                let layer = LayerId::Stage(stage);
                let text = self.keys.text(ledger, layer, text, place)?;
                Value::from_json(serde_json::from_str(&text).ok()?)
            }
        }
    }

    /// Says of veiled values what can be said: they are as they should be, they differ, or nobody can tell.
    pub(crate) fn unveil(
        &self,
        ledger: &Ledger,
        made: &Made<'_>,
        path: &str,
        veiled: &Veiled,
        drift: &mut FileDrift,
    ) {
        let print = |text: &str| {
            let scope = ledger.key_scope(LayerId::Stage(ledger.stage_id(self.file.stage.as_str())?));
            Some(self.keys.key(&scope).ok()?.key.fingerprint(text))
        };
        if !matches!(drift, FileDrift::AsLedger | FileDrift::Drifted(_)) {
            return;
        }
        let mut names = match std::mem::replace(drift, FileDrift::AsLedger) {
            FileDrift::Drifted(names) => names,
            _ => Vec::new(),
        };
        let known: BTreeMap<OutputName, Option<&Value>> =
            made.values(path).into_iter().map(|(name, value, _)| (name, value)).collect();
        for (name, fingerprint) in veiled {
            let at = names.iter().position(|drifted| drifted.steps == *name);
            match (known.get(name), at) {
                (Some(value), Some(at)) => {
                    let ours = value.and_then(|value| print(&Zeroizing::new(value.to_text())));
                    match (fingerprint, ours) {
                        (Some(theirs), Some(ours)) if *theirs == ours => drop(names.remove(at)),
                        (Some(_), Some(_)) => names[at].what = NameDrift::Differs,
                        _ => names[at].what = NameDrift::Unreadable,
                    }
                }
                (Some(_), None) => {}
                (None, _) => names.push(Drifted {
                    name: name.join("."),
                    steps: name.clone(),
                    address: None,
                    what: NameDrift::ExtraThere,
                    secret: true,
                    waived: false,
                    since: None,
                    expected: None,
                    observed: None,
                    there: None::<HeldValue>,
                }),
            }
        }
        if !names.is_empty() {
            *drift = FileDrift::Drifted(names);
        }
    }
}

fn texts_of(tree: &Tree) -> BTreeMap<String, Zeroizing<String>> {
    let texts =
        tree.0.iter().map(|(name, value)| (name.to_string(), Zeroizing::new(value.to_text().to_string())));
    texts.collect()
}
