//! Key files: a data key, wrapped for its readers as an armored age file
//! (<https://age-encryption.org/v1>).
//!
//! Inside stand, in lines, the version, whose key it is, the data key in base64url, how often the file was
//! changed, its readers, the data keys that were in place of this one, and proofs:
//!
//! ```text
//! copper-key-2
//! scope stages/test
//! key x3…
//! generation 5
//! reader ada age1…
//! reader ben ssh-ed25519 AAAA…
//! earlier 51c7… 0a9f…
//! proof 8b02… 77d1…
//! proof 51c7… 4e10…
//! ```
//!
//! A proof is the keyed BLAKE3 hash of the lines from `scope` to the last reader, with the id of the data key in
//! place of the key, under the link of a data key; the link is derived from it. That of the data key itself binds
//! the readers to it; those of earlier ones explain the file to whoever has seen them last. Links of earlier
//! data keys are kept in it, the keys themselves are not.

use std::collections::BTreeMap;

use age::secrecy::SecretString;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use cledger_core::cipher::KeyScope;
use cledger_core::name::Name;
use zeroize::Zeroizing;

use super::KeyError;
use super::age_file::{NotDecrypted, decrypted, encrypted};
use super::data_key::{DataKey, hex};
use super::identity::Identity;
use super::recipient::{PASSPHRASE, Recipient};
use crate::state::SeenKey;

const VERSION: &str = "copper-key-2";

/// The version before, which has neither generation nor proofs.
const FIRST_VERSION: &str = "copper-key-1";

/// The most earlier data keys that are kept in mind.
const MOST_EARLIER: usize = 64;

/// What proofs are made with, for one data key.
type Link = Zeroizing<[u8; 32]>;

/// Somebody who may read the secrets of a stage or group.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reader {
    /// What they are called here.
    pub name: Name,
    /// Their public key.
    pub recipient: Recipient,
}

/// A data key and its readers.
pub struct KeyFile {
    /// Whose key.
    pub scope: KeyScope,
    /// The key.
    pub key: DataKey,
    /// Who may read it, by name.
    pub readers: Vec<Reader>,
    /// How often it was changed.
    pub generation: u64,
    /// The links of the data keys before this one, by their ids, the oldest first.
    earlier: Vec<(String, Link)>,
    /// The proofs that it was read with.
    proofs: Vec<(String, String)>,
}

impl KeyFile {
    /// A new one.
    pub fn new(scope: KeyScope, key: DataKey, readers: Vec<Reader>) -> Self {
        Self { scope, key, readers, generation: 1, earlier: Vec::new(), proofs: Vec::new() }
    }

    /// The same data key, for other readers or another stage or group.
    pub(super) fn changed(&self, scope: KeyScope, readers: Vec<Reader>) -> Option<Self> {
        let key = DataKey::from_bytes(self.key.bytes())?;
        let (generation, earlier) = (self.generation + 1, self.earlier.clone());
        Some(Self { scope, key, readers, generation, earlier, proofs: Vec::new() })
    }

    /// Another data key in place of this one.
    pub(super) fn renewed(&self, key: DataKey, readers: Vec<Reader>) -> Self {
        let mut earlier = self.earlier.clone();
        earlier.push((self.key.id(), Zeroizing::new(*self.key.link())));
        if earlier.len() > MOST_EARLIER {
            earlier.remove(0);
        }
        let (scope, generation) = (self.scope.clone(), self.generation + 1);
        Self { scope, key, readers, generation, earlier, proofs: Vec::new() }
    }

    /// What is remembered of it.
    pub fn seen(&self) -> SeenKey {
        let readers = self.readers.iter().map(|reader| (reader.name.clone(), reader.recipient.to_string()));
        SeenKey {
            id: self.key.id(),
            generation: self.generation,
            link: hex(self.key.link()),
            readers: readers.collect(),
        }
    }

    /// Its readers with the fingerprints of their public keys.
    pub(super) fn listed(&self) -> String {
        let reader = |reader: &Reader| format!("{} ({})", reader.name, reader.recipient.fingerprint());
        self.readers.iter().map(reader).collect::<Vec<_>>().join(", ")
    }

    /// Whether somebody made it who could read the key that was seen before.
    pub(super) fn follows(&self, before: &SeenKey) -> bool {
        let Ok(link) = blake3::Hash::from_hex(&before.link) else { return false };
        let wanted = self.proof(link.as_bytes());
        // Comparing hashes takes the same time whatever differs.
        let is_it = |(id, proof): &(String, String)| {
            *id == before.id && blake3::Hash::from_hex(proof).is_ok_and(|found| found == wanted)
        };
        self.proofs.iter().any(is_it)
    }

    /// What a proof is made of: everything but the secrets.
    fn proof(&self, link: &[u8; 32]) -> blake3::Hash {
        let mut text = format!(
            "copper-ledger 2 key file\nscope {}\nkey {}\ngeneration {}\n",
            self.scope,
            self.key.id(),
            self.generation
        );
        for reader in &self.readers {
            text.push_str(&format!("reader {} {}\n", reader.name, reader.recipient));
        }
        blake3::keyed_hash(link, text.as_bytes())
    }

    /// The file's text, wrapped for its readers. A passphrase is asked for where that is the reader.
    pub fn wrap(&self, passphrase: Option<SecretString>) -> Result<String, KeyError> {
        let wrong = |reason: String| KeyError::Broken { scope: self.scope.clone(), reason };
        let recipients: Vec<&Recipient> = self.readers.iter().map(|reader| &reader.recipient).collect();
        encrypted(&self.content(), &recipients, passphrase).map_err(wrong)
    }

    fn content(&self) -> Zeroizing<String> {
        let key = Zeroizing::new(URL_SAFE_NO_PAD.encode(self.key.bytes()));
        // Room enough from the start: text that moves leaves a copy behind.
        let room = 512 + self.readers.len() * 1024 + self.earlier.len() * 256;
        let mut text = Zeroizing::new(String::with_capacity(room));
        text.push_str(&format!("{VERSION}\nscope {}\nkey ", self.scope));
        text.push_str(&key);
        text.push_str(&format!("\ngeneration {}\n", self.generation));
        for reader in &self.readers {
            text.push_str(&format!("reader {} {}\n", reader.name, reader.recipient));
        }
        for (id, link) in &self.earlier {
            text.push_str(&format!("earlier {id} "));
            text.push_str(&Zeroizing::new(hex(&**link)));
            text.push('\n');
        }
        let own = (self.key.id(), Zeroizing::new(*self.key.link()));
        for (id, link) in std::iter::once(&own).chain(&self.earlier) {
            text.push_str(&format!("proof {id} {}\n", self.proof(link).to_hex()));
        }
        text
    }

    /// Opens a file's text, which must be this stage's or group's.
    pub(super) fn unwrap(text: &str, scope: &KeyScope, identity: &Identity) -> Result<Self, KeyError> {
        let broken = |reason: &str| KeyError::Broken { scope: scope.clone(), reason: reason.to_owned() };
        let away = |reason: &str| KeyError::NotAtHand { scope: scope.clone(), reason: reason.to_owned() };
        let content = decrypted(text, scope.name().as_str(), identity).map_err(|error| match error {
            NotDecrypted::NotAtHand(reason) => away(&reason),
            NotDecrypted::Broken(reason) => broken(&reason),
        })?;
        Self::parse(&content, scope).map_err(|reason| broken(&reason))
    }

    fn parse(content: &str, scope: &KeyScope) -> Result<Self, String> {
        let mut lines = content.lines().peekable();
        let is_first = match lines.next() {
            Some(VERSION) => false,
            Some(FIRST_VERSION) => true,
            Some(other) if other.starts_with("copper-key-") => {
                return Err(format!("its version is unknown: this cledger reads `{VERSION}`"));
            }
            _ => return Err("it holds no key of a ledger".to_owned()),
        };
        let mut next = |word: &str| lines.next().and_then(|line| line.strip_prefix(word)?.strip_prefix(' '));
        let incomplete = || "what it holds is incomplete".to_owned();
        let whose = next("scope").ok_or_else(incomplete)?;
        if whose != scope.to_string() {
            return Err(format!("it is the key of `{whose}`, copied here"));
        }
        let key = next("key").ok_or_else(incomplete)?;
        let key = Zeroizing::new(URL_SAFE_NO_PAD.decode(key).map_err(|_| incomplete())?);
        let key = DataKey::from_bytes(&key).ok_or_else(incomplete)?;
        let mut file = Self::new(scope.clone(), key, Vec::new());
        file.generation = if is_first {
            0
        } else {
            next("generation").and_then(|text| text.parse().ok()).ok_or_else(incomplete)?
        };
        for line in lines {
            file.take_line(line).ok_or_else(incomplete)??;
        }
        let own = SeenKey { readers: BTreeMap::new(), ..file.seen() };
        if !is_first && !file.follows(&own) {
            return Err("its list of readers was not made with its key".to_owned());
        }
        Ok(file)
    }

    /// Takes one of the lines behind the key; `None` if it is none.
    fn take_line(&mut self, line: &str) -> Option<Result<(), String>> {
        let (word, rest) = line.split_once(' ')?;
        let (name, rest) = rest.split_once(' ')?;
        match word {
            "reader" => {
                let name = Name::parse(name).ok()?;
                let recipient = match rest {
                    PASSPHRASE => Recipient::passphrase(),
                    key => match Recipient::parse(key) {
                        Ok(recipient) => recipient,
                        Err(error) => return Some(Err(error.to_string())),
                    },
                };
                self.readers.push(Reader { name, recipient });
            }
            "earlier" => {
                let hash = blake3::Hash::from_hex(rest).ok()?;
                self.earlier.push((name.to_owned(), Zeroizing::new(*hash.as_bytes())));
            }
            "proof" => self.proofs.push((name.to_owned(), rest.to_owned())),
            _ => return None,
        }
        Some(Ok(()))
    }
}
