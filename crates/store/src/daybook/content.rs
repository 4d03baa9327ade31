//! What was delivered, packed: what is open compressed, secrets encrypted under the stage's key.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::cipher::KeyScope;
use cledger_core::kept::Kept;
use serde::{Deserialize, Serialize};
use zeroize::{Zeroize, Zeroizing};

use super::DaybookError;
use super::cipher_texts::{BOTH, bound_to, bound_to_digests};
use super::digests::{DigestKey, Digests};
use crate::keys::{KeyError, Keys};

/// How hard is compressed.
const LEVEL: i32 = 9;

/// The most that a content unpacks to, in bytes.
const LARGEST: usize = 256 << 20;

/// The full content of a delivery.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Content {
    /// The fields of the contract, as `ENTRY[.FIELD]`, with or without a value.
    pub fields: BTreeSet<String>,
    /// The effective values, as JSON, by `ENTRY[.FIELD]`.
    pub values: BTreeMap<String, Kept>,
    /// The files, by path.
    pub files: BTreeMap<String, Kept>,
    /// The documents, by outlet.
    pub documents: BTreeMap<String, Kept>,
    /// The rows, as a JSON object of texts, by outlet.
    pub rows: BTreeMap<String, Kept>,
    /// What was there before and was nobody's here, by outlet, or by outlet, `/` and path: all of it a secret.
    pub before: BTreeMap<String, Kept>,
}

/// A content as it is kept.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Packed {
    /// What is open, compressed; empty where there is none.
    pub(super) open: Vec<u8>,
    /// The cipher text of the secrets.
    pub(super) cipher_text: Option<String>,
    /// The digests of the values.
    pub(super) digests: Option<String>,
}

/// What is open, secrets being null.
#[derive(Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Open {
    fields: BTreeSet<String>,
    values: BTreeMap<String, Option<String>>,
    files: BTreeMap<String, Option<String>>,
    documents: BTreeMap<String, Option<String>>,
    rows: BTreeMap<String, Option<String>>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    before: BTreeMap<String, Option<String>>,
}

impl Open {
    /// Its parts, in the order of those of a content.
    fn parts(&mut self) -> [&mut BTreeMap<String, Option<String>>; 5] {
        [&mut self.values, &mut self.files, &mut self.documents, &mut self.rows, &mut self.before]
    }
}

/// The secrets, with a salt, so that their hash tells nobody who guesses whether that is right.
#[derive(Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Secrets {
    salt: String,
    values: BTreeMap<String, String>,
    files: BTreeMap<String, String>,
    documents: BTreeMap<String, String>,
    rows: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    before: BTreeMap<String, String>,
}

impl Secrets {
    /// Its parts, in the order of those of a content.
    fn parts(&mut self) -> [&mut BTreeMap<String, String>; 5] {
        [&mut self.values, &mut self.files, &mut self.documents, &mut self.rows, &mut self.before]
    }
}

impl Drop for Secrets {
    fn drop(&mut self) {
        self.parts().into_iter().flat_map(BTreeMap::values_mut).for_each(Zeroize::zeroize);
    }
}

/// What the hash of a record says of its content.
pub struct Hashes {
    /// Of what is open.
    pub open: String,
    /// Of the secrets, salted.
    pub secrets: Option<String>,
}

impl Content {
    /// Whether a secret is in it.
    pub fn has_secrets(&self) -> bool {
        self.parts().any(|(.., kept)| kept.is_secret())
    }

    /// Whether it is to be the same at the outlets; what was there before is passed over.
    pub fn is_same_as(&self, other: &Self) -> bool {
        (&self.fields, &self.values, &self.files, &self.documents, &self.rows)
            == (&other.fields, &other.values, &other.files, &other.documents, &other.rows)
    }

    fn parts(&self) -> impl Iterator<Item = (usize, &String, &Kept)> {
        let maps = [&self.values, &self.files, &self.documents, &self.rows, &self.before];
        maps.into_iter().enumerate().flat_map(|(at, map)| map.iter().map(move |(name, it)| (at, name, it)))
    }

    /// Packs it for a unit in a stage. Secrets need the key of the stage.
    pub fn pack(
        &self,
        keys: &Keys<'_>,
        scope: &KeyScope,
        (unit, stage): (&str, &str),
    ) -> Result<(Packed, Hashes), PackError> {
        let mut open = Open { fields: self.fields.clone(), ..Open::default() };
        let mut secrets = Secrets::default();
        for (at, name, kept) in self.parts() {
            let (open, hidden) = (open.parts(), secrets.parts());
            let (Some(open), Some(hidden)) = (open.into_iter().nth(at), hidden.into_iter().nth(at)) else {
                continue;
            };
            if kept.is_secret() {
                let text = kept.expose().ok_or(PackError::NotReadable)?;
                hidden.insert(name.clone(), text.to_string());
            }
            open.insert(name.clone(), kept.open().map(str::to_owned));
        }
        let open = serde_json::to_vec(&open).unwrap_or_default();
        let mut hashes = Hashes { open: blake3::hash(&open).to_hex().to_string(), secrets: None };
        let open =
            zstd::bulk::compress(&open, LEVEL).map_err(|error| PackError::Compress(error.to_string()))?;
        let digest_key = DigestKey::new()?;
        let sealed = if self.has_secrets() {
            Some(keys.seal(scope, &bound_to_digests(unit, stage), &digest_key.to_text())?)
        } else {
            None
        };
        let digests =
            Some(Digests::of((&self.fields, &self.values, &self.files), &digest_key, sealed).to_text());
        let mut packed = Packed { open, cipher_text: None, digests };
        if self.has_secrets() {
            let mut salt = [0_u8; 32];
            getrandom::fill(&mut salt).map_err(KeyError::from)?;
            secrets.salt = blake3::Hash::from_bytes(salt).to_hex().to_string();
            let text = Zeroizing::new(serde_json::to_string(&secrets).unwrap_or_default());
            hashes.secrets = Some(blake3::hash(text.as_bytes()).to_hex().to_string());
            packed.cipher_text = Some(keys.seal(scope, &bound_to(unit, stage), &text)?);
        }
        Ok((packed, hashes))
    }
}

/// Why a content cannot be packed.
#[derive(Debug, thiserror::Error)]
pub enum PackError {
    /// A secret in it is not readable here.
    #[error("a secret in it is not readable here")]
    NotReadable,
    /// The key of the stage is not at hand.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// It cannot be compressed.
    #[error("it cannot be compressed: {0}")]
    Compress(String),
}

impl Packed {
    /// The hash of what is open; `None` where there is no content, or it is damaged.
    pub(super) fn open_hash(&self) -> Option<String> {
        let open = self.open_bytes().ok()??;
        Some(blake3::hash(&open).to_hex().to_string())
    }

    fn open_bytes(&self) -> Result<Option<Vec<u8>>, DaybookError> {
        if self.open.is_empty() {
            return Ok(None);
        }
        let open = zstd::bulk::decompress(&self.open, LARGEST);
        open.map(Some)
            .map_err(|error| DaybookError::Damaged(format!("a content cannot be unpacked: {error}")))
    }

    /// Whether there are secrets in it.
    pub fn has_secrets(&self) -> bool {
        self.cipher_text.is_some()
    }

    /// Unpacks it. `open` gives the text of a cipher text, if the key is at hand; without it secrets have
    /// no text. `expected` is their salted hash: secrets that have another one were changed.
    pub fn unpack(
        &self,
        expected: Option<&str>,
        open: impl FnMut(&str) -> Option<Zeroizing<String>>,
    ) -> Result<Content, DaybookError> {
        let damaged = |error: serde_json::Error| DaybookError::Damaged(error.to_string());
        let Some(bytes) = self.open_bytes()? else { return Ok(Content::default()) };
        let parts: Open = serde_json::from_slice(&bytes).map_err(damaged)?;
        // While a key is being changed there are two cipher texts, of the old and of the new one.
        let text = self.cipher_text.as_deref().and_then(|both| both.split(BOTH).find_map(open));
        if let (Some(text), Some(expected)) = (&text, expected)
            && blake3::hash(text.as_bytes()).to_hex().as_str() != expected
        {
            return Err(DaybookError::Damaged("the secrets of a delivery were changed".to_owned()));
        }
        let secrets: Option<Secrets> =
            text.map(|text| serde_json::from_str(&text)).transpose().map_err(damaged)?;
        let join = |open: BTreeMap<String, Option<String>>, hidden: Option<&BTreeMap<String, String>>| {
            let kept = open.into_iter().map(|(name, text)| {
                let secret = || hidden.and_then(|hidden| hidden.get(&name).cloned());
                let kept = match text {
                    Some(text) => Kept::new(Zeroizing::new(text), false),
                    None => match secret() {
                        Some(text) => Kept::new(Zeroizing::new(text), true),
                        None => Kept::unreadable(),
                    },
                };
                (name, kept)
            });
            kept.collect()
        };
        let secrets = secrets.as_ref();
        Ok(Content {
            fields: parts.fields,
            values: join(parts.values, secrets.map(|it| &it.values)),
            files: join(parts.files, secrets.map(|it| &it.files)),
            documents: join(parts.documents, secrets.map(|it| &it.documents)),
            rows: join(parts.rows, secrets.map(|it| &it.rows)),
            before: join(parts.before, secrets.map(|it| &it.before)),
        })
    }

    /// The cipher text of its secrets.
    pub fn cipher_text(&self) -> Option<&str> {
        self.cipher_text.as_deref()
    }

    /// The digests of its values; none in records of before there were any.
    pub fn digests(&self) -> Result<Option<Digests>, DaybookError> {
        self.digests.as_deref().map(Digests::parse).transpose()
    }
}
