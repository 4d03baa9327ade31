//! Editing a ledger's files in place: nothing but the text in question changes.
//!
//! Blanks, comments, the order of keys, quoting, line ends and a byte-order mark stay as they are,
//! since a change is made in the file's text, at places that the parser gives, and not by writing
//! a tree anew.

mod blanks;
mod brackets;
mod change;
mod csv;
mod extend;
mod lines;
mod listed;
mod literal;
mod many;
mod mentions;
mod one;
pub(crate) mod outline;
mod proposed;
mod put;
mod remove;
mod rename;
mod setting;
mod share;
mod spread;
mod swapped;
mod tables;

use std::collections::BTreeMap;

use rayon::prelude::*;

pub use self::csv::with_cells;
pub use change::table_text;
pub use extend::extend;
pub use listed::{Beside, Item, ListedWhat};
pub use literal::{key, literal, parse_value};
pub use mentions::{Mention, mentions, references, without_mentions};
pub use proposed::{
    LeftOut, OutputList, ProposedOutput, added_to_list, entry_block, field_pattern, not_adopted_list,
    output_block, patterns,
};
pub use put::put;
pub use remove::remove;
pub use rename::{Named, Renaming, rename};
pub use setting::{Target, setting, setting_of, within_setting};
pub use share::{share, shared_file};
pub use swapped::swapped;

use crate::folder::FileError;
use crate::tree::{Changed, Tree};

/// One change of one file.
#[derive(Debug, Clone)]
pub struct Edit {
    /// The file, from the ledger's folder.
    pub file: String,
    /// The steps to the value: `units`, `ticket-desk`, `seat_hold`.
    pub path: Vec<String>,
    /// How many of the steps make the header of a new table, where no table of the file fits; the
    /// others follow in its first line, with dots between them.
    pub header: usize,
    /// What becomes of the value.
    pub what: What,
}

/// What becomes of a value.
#[derive(Clone)]
pub enum What {
    /// This TOML text takes its place.
    Set(String),
    /// It goes, and a table that is left empty goes with it.
    Remove,
    /// It goes with everything below it, whatever stands there.
    RemoveAll,
    /// The same, but the table at so many first steps stays, even with nothing in it: that it is there says something.
    RemoveInside(usize),
    /// This TOML text becomes one more element of the list that it is; of a new one where there is none.
    Add(String),
    /// The element that says the same as this TOML text goes from the list that it is, and an empty list with it.
    Take(String),
    /// What these items of lists of tables lead to is changed; the path is of no account.
    Listed(Vec<Item>, ListedWhat),
}

// The text may be a secret.
impl std::fmt::Debug for What {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            What::Set(_) => "Set",
            What::Remove => "Remove",
            What::RemoveAll => "RemoveAll",
            What::RemoveInside(_) => "RemoveInside",
            What::Add(_) => "Add",
            What::Take(_) => "Take",
            What::Listed(..) => "Listed",
        })
    }
}

/// Why a file cannot be edited.
#[derive(Debug, thiserror::Error)]
pub enum EditError {
    /// It cannot be read.
    #[error("`{0}` cannot be edited: {1}")]
    Unreadable(String, FileError),
    /// It is not TOML, or what is to be changed stands in a form that is not edited.
    #[error("`{file}` cannot be edited: {reason}")]
    Form {
        /// The file.
        file: String,
        /// What stands in the way.
        reason: String,
    },
}

/// Makes changes, one after the other, and gives the new texts of all files that differ.
pub fn apply(tree: &dyn Tree, edits: &[Edit]) -> Result<Changed, EditError> {
    let mut by_file: BTreeMap<&str, Vec<&Edit>> = BTreeMap::new();
    for edit in edits {
        by_file.entry(&edit.file).or_default().push(edit);
    }
    let by_file: Vec<(&str, Vec<&Edit>)> = by_file.into_iter().collect();
    let changed = by_file.par_iter().map(|(file, edits)| text_after(tree, file, edits));
    // Of several files that cannot be changed the first is told.
    let changed: Vec<Result<Option<ChangedFile>, EditError>> = changed.collect();
    changed.into_iter().filter_map(Result::transpose).collect()
}

/// A file, and its new text; none where it is gone.
type ChangedFile = (String, Option<String>);

/// A file after these edits; nothing where it says what it said.
fn text_after(tree: &dyn Tree, file: &str, edits: &[&Edit]) -> Result<Option<ChangedFile>, EditError> {
    let before = tree.text(file).map_err(|error| EditError::Unreadable(file.to_owned(), error))?;
    let mut now = before.clone().unwrap_or_default();
    let made = if edits.len() > 1 { many::at_once(&now, edits) } else { None };
    if let Some(made) = made {
        now = made;
    } else {
        for edit in edits {
            now = one::change(&now, edit)
                .map_err(|reason| EditError::Form { file: file.to_owned(), reason })?;
        }
    }
    now = blanks::without_blanks(&now, edits);
    if before.as_ref() == Some(&now) {
        return Ok(None);
    }
    let gone = now.trim_start_matches('\u{feff}').trim().is_empty();
    Ok(match (gone, before) {
        // Nothing is left: the file says nothing any more. An empty contract still declares a unit.
        (true, None) => None,
        (true, Some(_)) if !file.starts_with("units/") => Some((file.to_owned(), None)),
        _ => Some((file.to_owned(), Some(now))),
    })
}

/// What a file says, as it is written, at these steps below the last of these items of lists.
pub fn said(text: &str, items: &[Item], steps: &[String]) -> Option<String> {
    listed::said(text, items, steps)
}

/// A file's text with a block of lines after it, a blank line between them; the block alone where
/// there is no file.
pub fn append(text: Option<&str>, block: &str) -> String {
    let text = text.unwrap_or_default();
    let ending = if text.contains("\r\n") { "\r\n" } else { "\n" };
    let block = block.replace('\n', ending);
    if text.trim_start_matches('\u{feff}').trim().is_empty() {
        return format!("{text}{block}");
    }
    if !text.ends_with('\n') {
        return format!("{text}{ending}{ending}{}", block.trim_end_matches(['\r', '\n']));
    }
    format!("{text}{ending}{block}")
}
