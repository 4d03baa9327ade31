//! Mistakes that make a ledger unreadable.

use std::cmp::Ordering;
use std::sync::{Mutex, PoisonError};

use cledger_core::model::Mistake;
use cledger_core::source::Files;

/// A folder that is not a readable ledger, with every mistake that was found.
#[derive(Debug, thiserror::Error)]
#[error("{} cannot be read: {} found", what.as_deref().unwrap_or("the ledger"), count(mistakes.len()))]
pub struct Unreadable {
    /// What of it is needed and cannot be read; all of it if not given.
    pub what: Option<String>,
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
