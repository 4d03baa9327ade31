//! Captures: what outlets held at one time, as a JSON file.
//!
//! Secrets stand in it encrypted under the stage's key, as keyed fingerprints, or not at all.

use std::collections::BTreeMap;

use cledger_core::name::Name;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

/// The version of the form.
const FORMAT: u32 = 1;

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
    /// The outlets, in the order of the ledger.
    pub outlets: Vec<CapturedOutlet>,
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
    /// Why it holds nothing: it was not there, or could not be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
    /// Its text, where no format reads it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<CapturedContent>,
    /// Its values.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub values: Vec<CapturedValue>,
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
    Sealed(String),
    /// The keyed fingerprint of it.
    Fingerprint(String),
    /// Left out: `true`.
    LeftOut(bool),
}

/// A file is no capture.
#[derive(Debug, thiserror::Error)]
pub enum NoCapture {
    /// It is not of the form.
    #[error("it is no capture: {0}")]
    Form(serde_json::Error),
    /// It is of a form of another version.
    #[error("it is a capture of version {0}, and this program knows version {FORMAT}")]
    Version(u32),
}

impl Capture {
    /// A capture of a stage with nothing in it yet.
    pub fn new(ledger: &str, stage: Name, taken: String, by: Option<String>) -> Self {
        Self { format: FORMAT, ledger: ledger.to_owned(), stage, taken, by, outlets: Vec::new() }
    }

    /// Reads a capture.
    pub fn parse(text: &str) -> Result<Self, NoCapture> {
        let capture: Capture = serde_json::from_str(text).map_err(NoCapture::Form)?;
        if capture.format == FORMAT { Ok(capture) } else { Err(NoCapture::Version(capture.format)) }
    }

    /// Its text.
    pub fn to_text(&self) -> String {
        // It is made of texts, lists and maps by text, which always serialise.
        let mut text = serde_json::to_string_pretty(self).unwrap_or_default();
        text.push('\n');
        text
    }
}
