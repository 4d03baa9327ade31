//! Fetching what settings take from outside the ledger: environment variables and files.

use std::env::{self, VarError};
use std::fs;
use std::io;
use std::path::PathBuf;

use cledger_core::resolve::{Fetched, Outside};
use zeroize::Zeroizing;

/// The program's environment, and the files around a ledger's folder.
pub struct Surroundings {
    /// The folder from which `file:` paths are meant.
    pub ledger: PathBuf,
}

impl Outside for Surroundings {
    fn fetch(&self, source: &str) -> Fetched {
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
        let mut text = match fs::read_to_string(self.ledger.join(path)) {
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
