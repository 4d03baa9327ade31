//! Mistakes that make a ledger unreadable.

use std::cmp::Ordering;
use std::sync::{Mutex, PoisonError};

use cledger_core::source::{Files, Place};

/// One mistake in a ledger's files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mistake {
    /// What is wrong.
    pub message: String,
    /// The text that is wrong, if the file could be read.
    pub place: Option<Place>,
    /// The file or folder, where no text can be shown.
    pub path: Option<String>,
    /// What to do about it.
    pub help: Option<String>,
    /// Whether the text that is wrong may be a secret, and must not be shown.
    pub secret: bool,
}

impl Mistake {
    /// A mistake in a text that was read.
    pub fn at(place: Place, message: impl Into<String>) -> Self {
        Self { message: message.into(), place: Some(place), path: None, help: None, secret: false }
    }

    /// A mistake of a whole file or folder.
    pub fn of(path: &str, message: impl Into<String>) -> Self {
        Self { message: message.into(), place: None, path: Some(path.to_owned()), help: None, secret: false }
    }

    /// Says that the text may be a secret.
    #[must_use]
    pub fn secret(self) -> Self {
        Self { secret: true, ..self }
    }

    /// Adds what to do about it.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }
}

/// A folder that is not a readable ledger, with every mistake that was found.
#[derive(Debug, thiserror::Error)]
#[error("the ledger cannot be read: {} found", count(mistakes.len()))]
pub struct Unreadable {
    /// The mistakes, by file and place; at least one.
    pub mistakes: Vec<Mistake>,
    /// The files that were read, so that their lines can be shown.
    pub files: Files,
}

fn count(mistakes: usize) -> String {
    if mistakes == 1 { "1 mistake was".to_owned() } else { format!("{mistakes} mistakes were") }
}

/// Collects mistakes from all threads.
#[derive(Default)]
pub(crate) struct Mistakes(Mutex<Vec<Mistake>>);

impl Mistakes {
    pub(crate) fn push(&self, mistake: Mistake) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(mistake);
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).is_empty()
    }

    /// All of them, by path and place.
    pub(crate) fn sorted(self, files: &Files) -> Vec<Mistake> {
        let mut mistakes = self.0.into_inner().unwrap_or_else(PoisonError::into_inner);
        let key = |mistake: &Mistake| -> (String, u32) {
            match (mistake.place, &mistake.path) {
                (Some(place), _) => {
                    let path = files.get(place.file).map(|file| file.path.clone());
                    (path.unwrap_or_default(), place.start)
                }
                (None, path) => (path.clone().unwrap_or_default(), 0),
            }
        };
        mistakes.sort_by(|a, b| match key(a).cmp(&key(b)) {
            Ordering::Equal => a.message.cmp(&b.message),
            other => other,
        });
        mistakes.dedup();
        mistakes
    }
}
