//! The files that a change touches.

use std::collections::BTreeSet;

use cledger_core::model::Ledger;
use cledger_store::{Changed, READERS};

/// A file that a change touches.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TouchedFile {
    /// Its path, from the ledger's folder.
    pub path: String,
    /// What happens to it.
    pub becomes: Becomes,
}

/// What happens to a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Becomes {
    /// It is made.
    New,
    /// It gets another text.
    Changed,
    /// It is taken away.
    Gone,
}

impl Becomes {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Becomes::New => "new",
            Becomes::Changed => "changes",
            Becomes::Gone => "goes",
        }
    }
}

/// The files that change, and what happens to each.
pub(crate) fn touched(ledger: &Ledger, changed: &Changed) -> Vec<TouchedFile> {
    let known: BTreeSet<&str> = ledger.files.0.iter().map(|file| file.path.as_str()).collect();
    let file = |(path, text): (&String, &Option<String>)| {
        let becomes = match text {
            None => Becomes::Gone,
            // Where a key moves, there is a list of readers.
            Some(_) if known.contains(path.as_str()) || path == READERS => Becomes::Changed,
            Some(_) => Becomes::New,
        };
        TouchedFile { path: path.clone(), becomes }
    };
    changed.iter().map(file).collect()
}
