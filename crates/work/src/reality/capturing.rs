//! Captures: what outlets hold, written down.

use std::collections::BTreeMap;

use cledger_core::cipher::KeyScope;
use cledger_core::drift::{FileDrift, NameDrift};
use cledger_core::model::{Ledger, OutputFormat};
use cledger_core::output::OutputName;
use cledger_core::render::RenderedOutput;
use cledger_core::tree::Tree;
use cledger_core::value::{Held as HeldValue, Value};
use cledger_formats::particulars;
use cledger_outlets::file::FileError;
use cledger_outlets::held::{FileThere, Held};
use cledger_store::{CapturedContent, CapturedFile, CapturedOutlet, CapturedUnit, CapturedValue, Keys};
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

/// Hides the secrets of one stage.
pub(crate) struct Hiding<'k> {
    pub(crate) keys: &'k Keys<'k>,
    pub(crate) scope: KeyScope,
    pub(crate) how: SecretsAs,
}

impl Hiding<'_> {
    fn content(&self, place: &str, secret: bool, value: &Value) -> Result<CapturedContent, Trouble> {
        if !secret {
            return Ok(CapturedContent::Open(value.to_json()));
        }
        let text = Zeroizing::new(value.to_json().to_string());
        Ok(match self.how {
            SecretsAs::Encrypted => CapturedContent::CipherText(self.keys.seal(&self.scope, place, &text)?),
            SecretsAs::Fingerprints => {
                let text = Zeroizing::new(value.to_text().to_string());
                CapturedContent::Fingerprint(self.keys.key(&self.scope)?.key.fingerprint(&text))
            }
            SecretsAs::LeftOut => CapturedContent::LeftOut(true),
        })
    }
}

/// Writes down what was seen at one place.
pub(crate) fn outlet(
    ledger: &Ledger,
    looked: &Looked<'_>,
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
) -> Result<Vec<CapturedFile>, Trouble> {
    let State::There(drifts) = &unit.state else { return Ok(Vec::new()) };
    let mut captured = Vec::new();
    for (path, drift) in drifts {
        let this = made.format_of(path);
        let mut file = CapturedFile {
            path: path.clone(),
            format: this.name().to_owned(),
            not_there: false,
            trouble: None,
            text: None,
            values: Vec::new(),
        };
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
            Err(trouble) => file.trouble = Some(trouble),
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
