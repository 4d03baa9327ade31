//! Regular expressions of contracts.

use std::sync::{Mutex, PoisonError};

use regex::Regex;
use rustc_hash::FxHashMap;

/// Regular expressions that were compiled already: contracts repeat a few many times.
#[derive(Default)]
pub(super) struct Patterns(Mutex<FxHashMap<String, Regex>>);

impl Patterns {
    pub(super) fn compile(&self, text: &str) -> Result<Regex, regex::Error> {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(found) = known.get(text) {
            return Ok(found.clone());
        }
        let made = Regex::new(text)?;
        known.insert(text.to_owned(), made.clone());
        Ok(made)
    }
}
