//! What a ledger has otherwise than it had at an earlier time.

use std::path::Path;

use cledger_core::model::Ledger;
use rayon::prelude::*;
use rustc_hash::FxHashMap;

use crate::tree::{Changed, Memory, Tree};

/// The folder of keys, whose files are none of those that are read with a ledger.
const KEYS: &str = "keys";

/// What leads from a ledger that was read, with its files, back to what these were at an earlier time.
pub fn way_back((ledger, files): (&Ledger, &dyn Tree), then: &Memory) -> Changed {
    let now: FxHashMap<&str, &str> =
        ledger.files.0.iter().map(|file| (file.path.as_str(), file.text.as_str())).collect();
    let is_same = |path: &str, text: &String| match now.get(path) {
        Some(now) => now == text,
        None if is_key(path) => files.text(path).ok().flatten().as_ref() == Some(text),
        None if is_toml(path) => false,
        // It was not read, so that nothing depends on it, unless something was missing.
        None => ledger.table_faults.is_empty(),
    };
    let otherwise = then.0.par_iter().filter(|(path, text)| !is_same(path, text));
    let mut back: Changed = otherwise.map(|(path, text)| (path.clone(), Some(text.clone()))).collect();
    let gone = ledger.files.0.par_iter().filter(|file| !then.0.contains_key(&file.path));
    back.par_extend(gone.map(|file| (file.path.clone(), None)));
    let mut open = vec![KEYS.to_owned()];
    while let Some(folder) = open.pop() {
        for name in files.names(&folder).ok().flatten().unwrap_or_default() {
            let path = format!("{folder}/{name}");
            if files.is_folder(&path) {
                open.push(path);
            } else if !then.0.contains_key(&path) {
                back.insert(path, None);
            }
        }
    }
    back
}

fn is_toml(path: &str) -> bool {
    Path::new(path).extension().is_some_and(|ending| ending == "toml")
}

fn is_key(path: &str) -> bool {
    path.strip_prefix(KEYS).is_some_and(|below| below.starts_with('/'))
}
