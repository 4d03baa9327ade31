//! New text in place of values whose places are known: for many at once, where searching for each of
//! them would take quadratic time.

use std::collections::BTreeMap;

use cledger_core::source::{FileId, Files, Place};

use super::Changed;

/// The new texts of the files in which this TOML text takes the place of these values.
pub fn put(files: &Files, values: Vec<(Place, String)>) -> Changed {
    let mut by_file: BTreeMap<FileId, Vec<(Place, String)>> = BTreeMap::new();
    for value in values {
        by_file.entry(value.0.file).or_default().push(value);
    }
    let mut changed = Changed::new();
    for (file, mut values) in by_file {
        let Some(source) = files.get(file) else { continue };
        values.sort_unstable_by_key(|(place, _)| place.start);
        let mut text = String::with_capacity(source.text.len() + values.len() * 64);
        let mut from = 0;
        for (place, value) in values {
            text.push_str(source.text.get(from..place.start as usize).unwrap_or_default());
            text.push_str(&value);
            from = place.end as usize;
        }
        text.push_str(source.text.get(from..).unwrap_or_default());
        changed.insert(source.path.clone(), Some(text));
    }
    changed
}
