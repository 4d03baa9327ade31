//! Digests of the values of a delivery: whether the ledger says something else by now can be told from them,
//! without its content.
//!
//! Those of secrets are made with a key that is different for each record, and itself encrypted under the stage's
//! key: nobody can guess a secret by its digest.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::kept::Kept;
use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use super::DaybookError;
use super::cipher_texts::BOTH;
use crate::keys::KeyError;

/// How much of a hash is a digest, in hexadecimal digits.
const LENGTH: usize = 32;

/// What digests of secrets are made with.
pub(super) struct DigestKey(Zeroizing<[u8; 32]>);

impl DigestKey {
    /// A new one.
    pub(super) fn new() -> Result<Self, KeyError> {
        let mut bytes = Zeroizing::new([0; 32]);
        getrandom::fill(&mut *bytes).map_err(KeyError::from)?;
        Ok(Self(bytes))
    }

    pub(super) fn to_text(&self) -> Zeroizing<String> {
        Zeroizing::new(blake3::Hash::from_bytes(*self.0).to_hex().to_string())
    }

    fn from_text(text: &str) -> Option<Self> {
        Some(Self(Zeroizing::new(*blake3::Hash::from_hex(text).ok()?.as_bytes())))
    }

    fn digest(&self, text: &str) -> String {
        blake3::keyed_hash(&self.0, text.as_bytes()).to_hex()[..LENGTH].to_owned()
    }
}

/// The digest of one value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
enum Digest {
    /// It had no value.
    None,
    /// Of a value that anybody may see.
    Open(String),
    /// Of a secret.
    Secret(String),
}

/// The digests of all fields of a delivery.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Digests {
    /// The cipher text of the key of those of secrets.
    key: Option<String>,
    /// By `ENTRY[.FIELD]`.
    fields: BTreeMap<String, Digest>,
    /// The paths of the files, and whether a secret is in each.
    files: BTreeMap<String, bool>,
}

/// What digests tell of a content.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Differing {
    /// The fields that differ, come or go.
    pub fields: BTreeSet<String>,
    /// Those of which nobody can tell here.
    pub not_known: BTreeSet<String>,
}

fn open_digest(text: &str) -> String {
    blake3::hash(text.as_bytes()).to_hex()[..LENGTH].to_owned()
}

impl Digests {
    /// Those of a content: the names of its fields, their values, and its files.
    pub(super) fn of(
        (names, values, files): (&BTreeSet<String>, &BTreeMap<String, Kept>, &BTreeMap<String, Kept>),
        key: &DigestKey,
        sealed: Option<String>,
    ) -> Self {
        let mut fields: BTreeMap<String, Digest> =
            names.iter().map(|name| (name.clone(), Digest::None)).collect();
        for (name, kept) in values {
            let text = kept.expose().map(|text| text.as_str()).unwrap_or_default();
            let digest = if kept.is_secret() {
                Digest::Secret(key.digest(text))
            } else {
                Digest::Open(open_digest(text))
            };
            fields.insert(name.clone(), digest);
        }
        let files = files.iter().map(|(path, kept)| (path.clone(), kept.is_secret())).collect();
        Self { key: sealed, fields, files }
    }

    /// The same as it is kept.
    pub fn to_text(&self) -> String {
        // It is made of texts, which always serialise.
        serde_json::to_string(self).unwrap_or_default()
    }

    pub(super) fn parse(text: &str) -> Result<Self, DaybookError> {
        serde_json::from_str(text).map_err(|error| DaybookError::Damaged(error.to_string()))
    }

    /// The names of the fields that the contract had, with or without a value.
    pub fn fields(&self) -> impl Iterator<Item = &str> {
        self.fields.keys().map(String::as_str)
    }

    /// Those whose value was a secret.
    pub fn secrets(&self) -> impl Iterator<Item = &str> {
        let secret = self.fields.iter().filter(|(_, digest)| matches!(digest, Digest::Secret(_)));
        secret.map(|(name, _)| name.as_str())
    }

    /// The paths of the files in which a secret was.
    pub fn secret_files(&self) -> impl Iterator<Item = &str> {
        self.files.iter().filter(|(_, secret)| **secret).map(|(path, _)| path.as_str())
    }

    /// The paths of all files.
    pub fn files(&self) -> impl Iterator<Item = &str> {
        self.files.keys().map(String::as_str)
    }

    /// The cipher text of the key of those of secrets: two, parted by [`BOTH`], while the stage's key is being
    /// changed.
    pub fn cipher_text(&self) -> Option<&str> {
        self.key.as_deref()
    }

    /// The same with another cipher text, as it is kept.
    pub fn resealed(&self, cipher_text: String) -> String {
        Self { key: Some(cipher_text), ..self.clone() }.to_text()
    }

    /// How the values of a content stand to these. `open` gives the text of a cipher text, if the stage's key is at
    /// hand.
    pub fn differing(
        &self,
        now: &BTreeMap<String, Kept>,
        open: impl FnMut(&str) -> Option<Zeroizing<String>>,
    ) -> Differing {
        let key = self
            .key
            .iter()
            .flat_map(|both| both.split(BOTH))
            .find_map(open)
            .and_then(|text| DigestKey::from_text(&text));
        let mut differing = Differing::default();
        for (name, kept) in now {
            let text = kept.expose().map(|text| text.as_str());
            let same = match (self.fields.get(name), text) {
                (None | Some(Digest::None), _) => Some(false),
                (Some(Digest::Open(digest)), Some(text)) => Some(*digest == open_digest(text)),
                (Some(Digest::Secret(digest)), Some(text)) => {
                    key.as_ref().map(|key| *digest == key.digest(text))
                }
                (Some(_), None) => None,
            };
            match same {
                Some(true) => {}
                Some(false) => drop(differing.fields.insert(name.clone())),
                None => drop(differing.not_known.insert(name.clone())),
            }
        }
        let gone =
            self.fields.iter().filter(|(name, digest)| **digest != Digest::None && !now.contains_key(*name));
        differing.fields.extend(gone.map(|(name, _)| name.clone()));
        differing
    }
}
