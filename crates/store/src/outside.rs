//! Fetching what settings take from outside the ledger: environment variables and files, and what cipher
//! texts open to.

use std::env::{self, VarError};
use std::fs;
use std::io;
use std::path::PathBuf;

use cledger_core::cipher::{Cipher, KeyScope};
use cledger_core::resolve::{Fetched, Opened, Outside};
use zeroize::Zeroizing;

use crate::keys::Keys;

/// The program's environment, the files around a ledger's folder, and the keys at hand.
pub struct Surroundings<'t> {
    /// The folder from which `file:` paths are meant; `None` where nothing is fetched.
    pub files: Option<PathBuf>,
    /// What opens cipher texts.
    pub keys: Keys<'t>,
}

impl Outside for Surroundings<'_> {
    fn open(&self, scope: &KeyScope, cipher: &Cipher) -> Opened {
        self.keys.open(scope, cipher)
    }

    fn fetch(&self, source: &str) -> Fetched {
        let Some(ledger) = &self.files else { return Fetched::Unread };
        if let Some(name) = source.strip_prefix("env:") {
            return match env::var(name) {
                Ok(text) => Fetched::Text(Zeroizing::new(text)),
                Err(VarError::NotPresent) => {
                    Fetched::Nothing(format!("the environment variable `{name}` is not set"))
                }
                Err(VarError::NotUnicode(_)) => {
                    Fetched::Nothing(format!("the environment variable `{name}` is not UTF-8 text"))
                }
            };
        }
        let Some(path) = source.strip_prefix("file:") else {
            return Fetched::Nothing("`from` begins with neither `env:` nor `file:`".to_owned());
        };
        let mut text = match fs::read_to_string(ledger.join(path)) {
            Ok(text) => Zeroizing::new(text),
            Err(error) => {
                let reason = match error.kind() {
                    io::ErrorKind::NotFound => "does not exist".to_owned(),
                    io::ErrorKind::InvalidData => "is not UTF-8 text".to_owned(),
                    _ => format!("cannot be read: {error}"),
                };
                return Fetched::Nothing(format!("the file `{path}` {reason}"));
            }
        };
        if text.ends_with('\n') {
            text.pop();
            if text.ends_with('\r') {
                text.pop();
            }
        }
        Fetched::Text(text)
    }
}
