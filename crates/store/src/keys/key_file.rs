//! Key files: a data key, wrapped for its readers as an armored age file
//! (<https://age-encryption.org/v1>).
//!
//! Inside stand, in lines, the version, whose key it is, the data key in base64url, and its readers:
//!
//! ```text
//! copper-key-1
//! scope stages/test
//! key x3…
//! reader ada age1…
//! reader ben ssh-ed25519 AAAA…
//! ```

use std::fmt;
use std::io::{Read as _, Write as _};

use age::secrecy::SecretString;
use age::{DecryptError, Decryptor, Encryptor};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use cledger_core::cipher::KeyScope;
use cledger_core::name::Name;
use zeroize::Zeroizing;

use super::KeyError;
use super::data_key::DataKey;
use super::identity::{Identity, Opener};

const VERSION: &str = "copper-key-1";

/// The word that stands for a passphrase in place of a public key.
const PASSPHRASE: &str = "passphrase";

/// The public key of a reader, as text: of age (X25519) or OpenSSH, or the word `passphrase`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recipient(String);

/// Text that is no public key.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no public key: it begins with `age1`, `ssh-ed25519` or `ssh-rsa`")]
pub struct BadRecipient(String);

impl Recipient {
    /// A public key; the comment behind an OpenSSH one is left out.
    pub fn parse(text: &str) -> Result<Self, BadRecipient> {
        let mut words = text.split_whitespace();
        let text = match (words.next(), words.next()) {
            (Some(kind), Some(key)) if kind.starts_with("ssh-") => format!("{kind} {key}"),
            (Some(word), None) => word.to_owned(),
            _ => return Err(BadRecipient(shortened(text))),
        };
        let recipient = Self(text);
        match recipient.to_age() {
            Some(_) => Ok(recipient),
            None => Err(BadRecipient(shortened(&recipient.0))),
        }
    }

    /// Whoever knows the passphrase.
    pub fn passphrase() -> Self {
        Self(PASSPHRASE.to_owned())
    }

    /// Whether a passphrase opens it.
    pub fn is_passphrase(&self) -> bool {
        self.0 == PASSPHRASE
    }

    fn to_age(&self) -> Option<Box<dyn age::Recipient + Send>> {
        if self.0.starts_with("ssh-") {
            return self.0.parse::<age::ssh::Recipient>().ok().map(|key| Box::new(key) as _);
        }
        self.0.parse::<age::x25519::Recipient>().ok().map(|key| Box::new(key) as _)
    }
}

/// Somebody may have typed a private key here: only its start is said again.
fn shortened(text: &str) -> String {
    let start: String = text.chars().take(8).collect();
    if text.chars().count() > 8 { format!("{start}…") } else { start }
}

impl fmt::Display for Recipient {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

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
}

impl KeyFile {
    /// The file's text, wrapped for its readers. A passphrase is asked for where that is the reader.
    pub fn wrap(&self, passphrase: Option<SecretString>) -> Result<String, KeyError> {
        let wrong = |reason: String| KeyError::Broken { scope: self.scope.clone(), reason };
        let encryptor = if let Some(passphrase) = passphrase {
            Encryptor::with_user_passphrase(passphrase)
        } else {
            let recipients: Vec<_> =
                self.readers.iter().filter_map(|reader| reader.recipient.to_age()).collect();
            if recipients.len() < self.readers.len() || recipients.is_empty() {
                return Err(wrong("not all of its readers have a public key".to_owned()));
            }
            let all = recipients.iter().map(|one| &**one as &dyn age::Recipient);
            Encryptor::with_recipients(all).map_err(|error| wrong(error.to_string()))?
        };
        let io = |error: std::io::Error| wrong(error.to_string());
        let mut bytes = Vec::new();
        let armor = age::armor::ArmoredWriter::wrap_output(&mut bytes, age::armor::Format::AsciiArmor);
        let mut writer = encryptor.wrap_output(armor.map_err(io)?).map_err(io)?;
        writer.write_all(self.content().as_bytes()).map_err(io)?;
        writer.finish().and_then(age::armor::ArmoredWriter::finish).map_err(io)?;
        String::from_utf8(bytes).map_err(|error| wrong(error.to_string()))
    }

    fn content(&self) -> Zeroizing<String> {
        let key = Zeroizing::new(URL_SAFE_NO_PAD.encode(self.key.bytes()));
        // Room enough from the start: text that moves leaves a copy behind.
        let mut text = Zeroizing::new(String::with_capacity(256 + self.readers.len() * 1024));
        text.push_str(&format!("{VERSION}\nscope {}\nkey ", self.scope));
        text.push_str(&key);
        text.push('\n');
        for reader in &self.readers {
            text.push_str(&format!("reader {} {}\n", reader.name, reader.recipient));
        }
        text
    }

    /// Opens a file's text, which must be this stage's or group's.
    pub(super) fn unwrap(text: &str, scope: &KeyScope, identity: &Identity) -> Result<Self, KeyError> {
        let broken = |reason: &str| KeyError::Broken { scope: scope.clone(), reason: reason.to_owned() };
        let away = |reason: &str| KeyError::NotAtHand { scope: scope.clone(), reason: reason.to_owned() };
        let damaged = || broken("it is damaged, or no age file");
        let armored = age::armor::ArmoredReader::new(text.as_bytes());
        let decryptor = Decryptor::new_buffered(std::io::BufReader::new(armored)).map_err(|_| damaged())?;
        let by_passphrase = decryptor.is_scrypt();
        let wrong = |error: DecryptError| match error {
            DecryptError::NoMatchingKeys => away("you are not one of its readers"),
            DecryptError::KeyDecryptionFailed => away("the passphrase is wrong"),
            DecryptError::DecryptionFailed if by_passphrase => away("the passphrase is wrong"),
            DecryptError::ExcessiveWork { .. } => broken("its passphrase takes too much work to try"),
            _ => damaged(),
        };
        let mut content = Zeroizing::new(String::with_capacity(text.len()));
        let reader = if by_passphrase {
            let passphrase = identity.passphrase(scope.name().as_str());
            let passphrase =
                passphrase.ok_or_else(|| away("it is protected by a passphrase, and nobody typed it"))?;
            decryptor.decrypt(std::iter::once(&age::scrypt::Identity::new(passphrase) as _))
        } else {
            let openers = identity.openers().map_err(|error| away(&error.to_string()))?;
            decryptor.decrypt(openers.iter().map(|opener: &Opener| &**opener as &dyn age::Identity))
        };
        reader.map_err(wrong)?.read_to_string(&mut content).map_err(|_| damaged())?;
        Self::parse(&content, scope).map_err(|reason| broken(&reason))
    }

    fn parse(content: &str, scope: &KeyScope) -> Result<Self, String> {
        let mut lines = content.lines();
        match lines.next() {
            Some(VERSION) => {}
            Some(other) if other.starts_with("copper-key-") => {
                return Err(format!("its version is unknown: this cledger reads `{VERSION}`"));
            }
            _ => return Err("it holds no key of a ledger".to_owned()),
        }
        let mut next = |word: &str| lines.next().and_then(|line| line.strip_prefix(word)?.strip_prefix(' '));
        let incomplete = || "what it holds is incomplete".to_owned();
        let whose = next("scope").ok_or_else(incomplete)?;
        if whose != scope.to_string() {
            return Err(format!("it is the key of `{whose}`, copied here"));
        }
        let key = next("key").ok_or_else(incomplete)?;
        let key = Zeroizing::new(URL_SAFE_NO_PAD.decode(key).map_err(|_| incomplete())?);
        let key = DataKey::from_bytes(&key).ok_or_else(incomplete)?;
        let mut readers = Vec::new();
        for line in lines {
            let reader = line.strip_prefix("reader ").and_then(|rest| rest.split_once(' '));
            let (name, recipient) = reader.ok_or_else(incomplete)?;
            let name = Name::parse(name).map_err(|_| incomplete())?;
            let recipient = match recipient {
                PASSPHRASE => Recipient::passphrase(),
                key => Recipient::parse(key).map_err(|error| error.to_string())?,
            };
            readers.push(Reader { name, recipient });
        }
        Ok(Self { scope: scope.clone(), key, readers })
    }
}
