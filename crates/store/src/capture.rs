//! Captures: what outlets held at one time, as a JSON file.
//!
//! Secrets stand in it encrypted under the stage's key, as keyed fingerprints, or not at all.

use std::collections::BTreeMap;

use cledger_core::name::Name;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

/// The version of the form. Earlier ones are read as well: the first calls `sealed` what is `cipher_text` now.
const FORMAT: u32 = 4;

/// What the first version says of a file that was not there.
const NOT_THERE: &str = "it is not there";

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands it over so")]
fn is_false(truth: &bool) -> bool {
    !truth
}

/// A capture of one stage.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Capture {
    format: u32,
    /// The ledger's name.
    pub ledger: String,
    /// The stage.
    pub stage: Name,
    /// When it was taken (RFC 3339, UTC).
    pub taken: String,
    /// Who took it.
    pub by: Option<String>,
    /// Why it was taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// The key of its own that its secrets are encrypted under, wrapped by a passphrase; without it, they are under the
    /// stage's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<OwnKey>,
    /// The outlets, in the order of the ledger.
    pub outlets: Vec<CapturedOutlet>,
    /// What the ledger said of the stage, by unit or instance, where that was to be kept as well.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub said: Option<BTreeMap<String, CapturedUnit>>,
}

/// A key of a capture's own, which a passphrase opens.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OwnKey {
    /// The id of the data key.
    pub id: String,
    /// The key file's text, as `docs/formats.md` has it.
    pub text: String,
}

/// What one outlet held.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CapturedOutlet {
    /// Its name.
    pub name: Name,
    /// Its kind.
    pub kind: String,
    /// Units there that the ledger did not know.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unknown: Vec<String>,
    /// What each unit or instance had there.
    pub units: BTreeMap<String, CapturedUnit>,
}

/// What a unit or instance had in an outlet.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, tag = "state")]
pub enum CapturedUnit {
    /// It was there.
    There {
        /// The version of the unit that the ledger named.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        version: Option<String>,
        /// The entity tag of its document.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        tag: Option<String>,
        /// Its files, or what else it had there.
        files: Vec<CapturedFile>,
    },
    /// It was not there.
    NotThere,
    /// Nobody could tell.
    NotKnown {
        /// Why.
        reason: String,
    },
}

/// A file, or what else holds names and values.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CapturedFile {
    /// Its path, or `document`, `rows` or `environment`.
    pub path: String,
    /// Its format, by its name in contracts.
    pub format: String,
    /// Whether it was not there.
    #[serde(default, skip_serializing_if = "is_false")]
    pub not_there: bool,
    /// Whether the ledger made no such file.
    #[serde(default, skip_serializing_if = "is_false")]
    pub theirs: bool,
    /// Why it could not be read, as what keeps it says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
    /// Its text, where no format reads it, or the ledger does not know its names.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<CapturedContent>,
    /// Its values.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub values: Vec<CapturedValue>,
}

impl CapturedFile {
    /// A file of this path and format with nothing in it, which the ledger makes.
    pub fn empty(path: &str, format: &str) -> Self {
        Self {
            path: path.to_owned(),
            format: format.to_owned(),
            not_there: false,
            theirs: false,
            trouble: None,
            text: None,
            values: Vec::new(),
        }
    }

    /// Whether what it has under a name is not for anybody to see: a value, or a part of its text.
    pub fn is_secret(&self, name: &[String]) -> bool {
        let is_open = |content: &CapturedContent| matches!(content, CapturedContent::Open(_));
        let value = self.values.iter().find(|value| value.name == name);
        !value.map(|value| &value.content).or(self.text.as_ref()).is_some_and(is_open)
    }
}

/// A value under a name.
#[derive(Debug, Serialize, Deserialize)]
pub struct CapturedValue {
    /// The steps of the name.
    pub name: Vec<String>,
    /// The value.
    #[serde(flatten)]
    pub content: CapturedContent,
}

/// A value or text, in the open or not.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CapturedContent {
    /// For anybody to see.
    Open(Json),
    /// Encrypted under the stage's key.
    #[serde(rename = "cipher_text", alias = "sealed")]
    CipherText(String),
    /// The keyed fingerprint of it.
    Fingerprint(String),
    /// Left out: `true`.
    LeftOut(bool),
}

/// The version alone.
#[derive(Deserialize)]
struct Version {
    format: u32,
}

/// A file is no capture.
#[derive(Debug, thiserror::Error)]
pub enum NoCapture {
    /// It is not of the form.
    #[error("it is no capture: {0}")]
    Form(serde_json::Error),
    /// It is of a form of another version.
    #[error("it is a capture of version {0}, and this program knows those up to {FORMAT}")]
    Version(u32),
}

impl Capture {
    /// A capture of a stage with nothing in it yet.
    pub fn new(ledger: &str, stage: Name, taken: String, by: Option<String>) -> Self {
        let (ledger, outlets) = (ledger.to_owned(), Vec::new());
        Self { format: FORMAT, ledger, stage, taken, by, why: None, key: None, outlets, said: None }
    }

    /// Reads a capture.
    pub fn parse(text: &str) -> Result<Self, NoCapture> {
        // What a later version has more is not taken for a mistake.
        let Version { format } = serde_json::from_str(text).map_err(NoCapture::Form)?;
        if !(1..=FORMAT).contains(&format) {
            return Err(NoCapture::Version(format));
        }
        let mut capture: Self = serde_json::from_str(text).map_err(NoCapture::Form)?;
        if format == 1 {
            capture.bring_forward();
        }
        capture.format = FORMAT;
        Ok(capture)
    }

    /// Makes one of the first version into one of the second.
    fn bring_forward(&mut self) {
        for unit in self.outlets.iter_mut().flat_map(|outlet| outlet.units.values_mut()) {
            let CapturedUnit::There { files, .. } = unit else { continue };
            for file in files.iter_mut().filter(|file| file.trouble.as_deref() == Some(NOT_THERE)) {
                (file.not_there, file.trouble) = (true, None);
            }
        }
    }

    /// Its text.
    pub fn to_text(&self) -> String {
        // It is made of texts, lists and maps by text, which always serialise.
        let mut text = serde_json::to_string_pretty(self).unwrap_or_default();
        text.push('\n');
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn capture(format: u32, key: &str) -> String {
        format!(
            r#"{{"format":{format},"ledger":"Small","stage":"dev","taken":"2026-11-25T10:00:00Z","by":null,
            "outlets":[{{"name":"files","kind":"directory","units":{{"desk":{{"state":"there","files":[
            {{"path":"desk.env","format":"dotenv","values":[{{"name":["PIN"],"{key}":"copper-1.x"}}]}}]}}}}}}]}}"#
        )
    }

    #[test]
    fn captures_of_earlier_versions_are_read_and_written_as_those_of_this_one() {
        let first = Capture::parse(&capture(1, "sealed")).unwrap().to_text();
        assert!(first.contains("\"cipher_text\": \"copper-1.x\"") && !first.contains("sealed"), "{first}");
        assert_eq!(Capture::parse(&capture(2, "cipher_text")).unwrap().to_text(), first);
        for format in 3..=FORMAT {
            assert!(Capture::parse(&capture(format, "cipher_text")).is_ok(), "{format}");
        }
        assert!(matches!(Capture::parse(&capture(5, "cipher_text")), Err(NoCapture::Version(5))));
        assert!(matches!(Capture::parse(&capture(2, "other")), Err(NoCapture::Form(_))));
    }
}
