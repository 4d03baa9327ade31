//! The public keys of readers.

use std::fmt;

use super::data_key::LETTERS;

/// The word that stands for a passphrase in place of a public key.
pub(super) const PASSPHRASE: &str = "passphrase";

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

    /// Tells it from others at a glance: sixteen letters of its BLAKE3 hash, in fours.
    pub fn fingerprint(&self) -> String {
        let hash = blake3::hash(self.0.as_bytes());
        let letters = hash.as_bytes().iter().take(16).map(|byte| char::from(LETTERS[usize::from(byte & 31)]));
        let letters: Vec<char> = letters.collect();
        letters.chunks(4).map(|four| four.iter().collect()).collect::<Vec<String>>().join("-")
    }

    pub(super) fn to_age(&self) -> Option<Box<dyn age::Recipient + Send>> {
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
