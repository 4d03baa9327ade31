//! Fetching what settings take from outside the ledger: environment variables and files, and what cipher
//! texts open to.

use std::collections::BTreeSet;
use std::env::{self, VarError};
use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};

use cledger_core::cipher::{Cipher, KeyScope};
use cledger_core::resolve::{Fetched, Opened, Outside};
use cledger_core::trust::{Granted, Named};
use zeroize::Zeroizing;

use crate::folder::{FileError, text_named};
use crate::keys::Keys;

/// The largest secret that is fetched, in bytes.
pub const LARGEST_SECRET: u64 = 1 << 20;

/// The program's environment, the files around a ledger's folder, and the keys at hand.
pub struct Surroundings<'t> {
    fetching: Option<(PathBuf, Granted)>,
    /// What would have been fetched, and may not be.
    refused: Mutex<BTreeSet<Named>>,
    /// What opens cipher texts.
    pub keys: Keys<'t>,
}

impl<'t> Surroundings<'t> {
    /// Fetches what is granted; files are meant from the ledger's folder.
    pub fn fetching(folder: PathBuf, granted: Granted, keys: Keys<'t>) -> Self {
        Self { fetching: Some((folder, granted)), refused: Mutex::default(), keys }
    }

    /// Fetches nothing.
    pub fn closed(keys: Keys<'t>) -> Self {
        Self { fetching: None, refused: Mutex::default(), keys }
    }

    /// What was to be fetched so far, and was not, since nobody has said that the ledger may.
    pub fn refused(&self) -> Vec<Named> {
        self.refused.lock().unwrap_or_else(PoisonError::into_inner).iter().cloned().collect()
    }
}

impl Outside for Surroundings<'_> {
    fn open(&self, scope: &KeyScope, cipher: &Cipher) -> Opened {
        self.keys.open(scope, cipher)
    }

    fn fetch(&self, source: &str) -> Fetched {
        let Some((ledger, granted)) = &self.fetching else { return Fetched::Unread };
        let named = Named::of_source(source);
        if !granted.allows(&named) {
            self.refused.lock().unwrap_or_else(PoisonError::into_inner).insert(named);
            return Fetched::NotTrusted;
        }
        if let Some(name) = source.strip_prefix("env:") {
            return match env::var(name) {
                Ok(text) if text.len() as u64 > LARGEST_SECRET => {
                    Fetched::Nothing(format!("the environment variable `{name}` is larger than 1 MiB"))
                }
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
        match text_named(&ledger.join(path), LARGEST_SECRET) {
            Ok(text) => Fetched::Text(without_final_newline(Zeroizing::new(text))),
            Err(error) if error.is_not_there() => {
                Fetched::Nothing(format!("the file `{path}` does not exist"))
            }
            Err(error) => Fetched::Nothing(format!("the file `{path}` is of no use: {}", said(&error))),
        }
    }
}

/// Why a file is of no use, without a word of what is in it.
fn said(error: &FileError) -> String {
    match error {
        FileError::NotUtf8(_) => "it is not UTF-8 text".to_owned(),
        other => other.to_string(),
    }
}

/// A text without the one newline that editors and shells put at its end.
pub fn without_final_newline(mut text: Zeroizing<String>) -> Zeroizing<String> {
    if text.ends_with('\n') {
        text.pop();
        if text.ends_with('\r') {
            text.pop();
        }
    }
    text
}
