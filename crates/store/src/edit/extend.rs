//! Many values in tables that no file has yet: written together, where setting them one by one would
//! read each file again for each of them.

use std::collections::BTreeMap;

use super::{Changed, Edit, EditError, What, append, key};
use crate::tree::Tree;

/// Adds the tables of these edits behind what their files have. None of the tables may be there yet;
/// edits that set nothing are passed over.
pub fn extend(tree: &dyn Tree, edits: &[Edit]) -> Result<Changed, EditError> {
    let mut blocks: BTreeMap<&str, BTreeMap<&[String], String>> = BTreeMap::new();
    for edit in edits {
        let What::Set(literal) = &edit.what else { continue };
        let (header, rest) = edit.path.split_at(edit.header.min(edit.path.len()));
        let block = blocks.entry(&edit.file).or_default().entry(header).or_default();
        block.push_str(&format!("{} = {literal}\n", dotted(rest)));
    }
    let mut changed = Changed::new();
    for (file, tables) in blocks {
        let before = tree.text(file).map_err(|error| EditError::Unreadable(file.to_owned(), error))?;
        let mut text = before.unwrap_or_default();
        for (header, lines) in tables {
            let head = if header.is_empty() { String::new() } else { format!("[{}]\n", dotted(header)) };
            text = append(Some(&text), &format!("{head}{lines}"));
        }
        changed.insert(file.to_owned(), Some(text));
    }
    Ok(changed)
}

fn dotted(steps: &[String]) -> String {
    steps.iter().map(|step| key(step)).collect::<Vec<_>>().join(".")
}
