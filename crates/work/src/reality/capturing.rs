//! Captures: what outlets hold, written down.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::cipher::KeyScope;
use cledger_core::drift::{FileDrift, NameDrift};
use cledger_core::model::{Ledger, OutputFormat};
use cledger_core::output::OutputName;
use cledger_core::render::RenderedOutput;
use cledger_core::tree::Tree;
use cledger_core::value::{Held as HeldValue, Value};
use cledger_formats::{detect, particulars};
use cledger_outlets::file::FileError;
use cledger_outlets::held::{FileThere, Held, Values};
use cledger_outlets::read_back::NOT_ALL;
use cledger_store::{
    CapturedContent, CapturedFile, CapturedOutlet, CapturedUnit, CapturedValue, KeyError, KeyFile, Keys,
};
use zeroize::Zeroizing;

use crate::existing;
use crate::reality::captured::place_of;
use crate::reality::looked::Looked;
use crate::reality::making::Made;
use crate::reality::standing::{State, UnitDrift};
use crate::trouble::Trouble;

/// What becomes of secrets in a capture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SecretsAs {
    /// Encrypted under the stage's key.
    Encrypted,
    /// As fingerprints that only readers of the stage's key can compare.
    Fingerprints,
    /// Not at all.
    LeftOut,
}

/// What stands in place of a value that is not in it.
pub(super) const LEFT_OUT: CapturedContent = CapturedContent::LeftOut(true);

/// Hides the secrets of one stage.
pub(crate) struct Hiding<'k> {
    pub(crate) keys: &'k Keys<'k>,
    pub(crate) scope: KeyScope,
    pub(crate) how: SecretsAs,
    /// The capture's own key in place of the stage's.
    pub(crate) own: Option<&'k KeyFile>,
}

impl Hiding<'_> {
    pub(crate) fn content(
        &self,
        place: &str,
        secret: bool,
        value: &Value,
    ) -> Result<CapturedContent, Trouble> {
        if !secret {
            return Ok(CapturedContent::Open(value.to_json()));
        }
        let text = Zeroizing::new(value.to_json().to_string());
        Ok(match self.how {
            SecretsAs::Encrypted => CapturedContent::CipherText(match self.own {
                Some(own) => own.key.seal(&own.scope, place, &text).map_err(KeyError::Random)?,
                None => self.keys.seal(&self.scope, place, &text)?,
            }),
            SecretsAs::Fingerprints => {
                let text = Zeroizing::new(value.to_text().to_string());
                CapturedContent::Fingerprint(self.keys.key(&self.scope)?.key.fingerprint(&text))
            }
            SecretsAs::LeftOut => LEFT_OUT,
        })
    }
}

/// Writes down what was seen at one place, and what it has beside what the ledger makes.
pub(crate) fn outlet(
    ledger: &Ledger,
    looked: &Looked<'_>,
    mut beside: BTreeMap<String, Held>,
    hiding: &Hiding<'_>,
) -> Result<CapturedOutlet, Trouble> {
    let (name, kind) = match looked.place.outlet {
        Some(outlet) => (outlet.name.clone(), outlet.kind.name()),
        None => return Err(Trouble::usage("a folder is no outlet")),
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
                let mut files = files(unit, name.as_str(), &look.made, held, hiding)?;
                if let Some(more) = beside.remove(&unit.owner) {
                    files.extend(theirs(&unit.owner, name.as_str(), &more, hiding)?);
                }
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
    for (owner, held) in beside {
        let captured = match &held {
            Held::NotThere => CapturedUnit::NotThere,
            Held::NotKnown(reason) => CapturedUnit::NotKnown { reason: reason.clone() },
            Held::Files(there) if there.has_more => CapturedUnit::NotKnown { reason: NOT_ALL.to_owned() },
            held => {
                let files = theirs(&owner, name.as_str(), held, hiding)?;
                CapturedUnit::There { version: None, tag: None, files }
            }
        };
        units.insert(owner, captured);
    }
    let unknown = looked.units.iter().filter(|unit| matches!(unit.state, State::Unknown));
    let mut unknown: BTreeSet<String> = unknown.map(|unit| unit.owner.clone()).collect();
    let known: BTreeSet<&String> = looked.units.iter().map(|unit| &unit.owner).collect();
    unknown.extend(units.keys().filter(|owner| !known.contains(owner)).cloned());
    let unknown = unknown.into_iter().collect();
    Ok(CapturedOutlet { name, kind: kind.to_owned(), unknown, units })
}

/// What a unit has that the ledger makes nothing of: nobody has said that something in it is no secret.
fn theirs(owner: &str, outlet: &str, held: &Held, hiding: &Hiding<'_>) -> Result<Vec<CapturedFile>, Trouble> {
    let text = |path: &str, format: OutputFormat, text: &str| {
        let content = hiding.content(&place_of(owner, outlet, path, &[]), true, &Value::text(text))?;
        Ok::<_, Trouble>(CapturedFile { text: Some(content), ..not_ledgers(path, format) })
    };
    let named = |path: &str, format: OutputFormat, values: &Values| {
        let value = |(name, value): (&String, &Zeroizing<String>)| {
            let name = vec![name.clone()];
            let content = hiding.content(&place_of(owner, outlet, path, &name), true, &Value::text(value))?;
            Ok::<_, Trouble>(CapturedValue { name, content })
        };
        let values = values.iter().map(value).collect::<Result<_, _>>()?;
        Ok::<_, Trouble>(CapturedFile { values, ..not_ledgers(path, format) })
    };
    Ok(match held {
        Held::Files(there) => {
            let mut files = Vec::new();
            for (path, file) in &there.files {
                files.push(match file {
                    Ok(file) => {
                        let format = detect(path, &file.text).unwrap_or(OutputFormat::Template);
                        text(path, format, &file.text)?
                    }
                    Err(error) => CapturedFile {
                        trouble: Some(error.to_string()),
                        ..not_ledgers(path, OutputFormat::Template)
                    },
                });
            }
            files
        }
        Held::Document(document, _) => vec![text("document", OutputFormat::Json, document)?],
        Held::Rows(rows) => vec![named("rows", OutputFormat::Properties, rows)?],
        Held::Environment(variables) => {
            let values = variables.iter().map(|(name, text)| (name.clone(), Zeroizing::new(text.clone())));
            vec![named("environment", OutputFormat::Dotenv, &values.collect())?]
        }
        Held::NotThere | Held::NotKnown(_) => Vec::new(),
    })
}

/// A file that the ledger does not make.
fn not_ledgers(path: &str, format: OutputFormat) -> CapturedFile {
    CapturedFile { theirs: true, ..CapturedFile::empty(path, format.name()) }
}

fn files(
    unit: &UnitDrift,
    outlet: &str,
    made: &Made<'_>,
    held: &Held,
    hiding: &Hiding<'_>,
) -> Result<Vec<CapturedFile>, Trouble> {
    let State::There(drifts) = &unit.state else { return Ok(Vec::new()) };
    let mut captured = Vec::new();
    let is_theirs = |path: &String| matches!(held, Held::Files(there) if there.others.contains(path));
    for (path, drift) in drifts.iter().filter(|(path, _)| !is_theirs(path)) {
        let this = made.format_of(path);
        let mut file = CapturedFile::empty(path, this.name());
        let place = |name: &[String]| place_of(&unit.owner, outlet, path, name);
        let output = made.output(path);
        let tree = match held {
            Held::Files(there) => match there.files.get(path) {
                None | Some(Err(FileError::NotThere)) => {
                    file.not_there = true;
                    Ok(Tree::default())
                }
                Some(Err(error)) => Err(error.to_string()),
                Some(Ok(FileThere { text, .. })) if this == OutputFormat::Template => {
                    let secret = output.is_none_or(RenderedOutput::is_secret)
                        || matches!(drift, FileDrift::TextDiffers { has_secret: true, .. });
                    file.text = Some(hiding.content(&place(&[]), secret, &Value::text(text))?);
                    Ok(Tree::default())
                }
                Some(Ok(FileThere { text, .. })) => read(text, this, output),
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
            Err(trouble) => {
                file.trouble = Some(trouble);
                // Its text is kept all the same.
                if let Some(text) = text_of(held, path) {
                    file.text = Some(hiding.content(&place(&[]), true, &Value::text(text))?);
                }
            }
            Ok(tree) => {
                for (name, secret) in known(made, path) {
                    if let Some(value) = tree.get(&name) {
                        let secret = secret || is_veiled(drift, &name);
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

/// The text of a file, or of the document.
fn text_of<'h>(held: &'h Held, path: &str) -> Option<&'h str> {
    match held {
        Held::Files(there) => Some(there.files.get(path)?.as_ref().ok()?.text.as_str()),
        Held::Document(text, _) => Some(text.as_str()),
        _ => None,
    }
}

fn read(text: &str, this: OutputFormat, output: Option<&RenderedOutput<'_>>) -> Result<Tree, String> {
    let particulars = output.map(particulars).unwrap_or_default();
    existing::read(text, this, particulars).map(|found| found.tree).map_err(|error| error.to_string())
}

/// Whether what is there under a name is known to be a secret, whatever the ledger has there by now.
fn is_veiled(drift: &FileDrift, name: &OutputName) -> bool {
    let FileDrift::Drifted(names) = drift else { return false };
    let mut there = names.iter().filter(|drifted| drifted.steps == *name).filter_map(|it| it.there.as_ref());
    there.any(HeldValue::is_secret)
}

/// The names that the ledger has there, and whether each is a secret.
fn known(made: &Made<'_>, path: &str) -> Vec<(OutputName, bool)> {
    let values = made.values(path).into_iter().map(|(name, _, secret)| (name, secret));
    let lacking = made.output(path).into_iter().flat_map(|output| &output.lacking);
    values.chain(lacking.map(|(name, lacking)| (name.clone(), lacking.may_be_secret))).collect()
}
