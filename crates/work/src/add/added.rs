//! What was added, written.

use cledger_core::effects::{Effect, Seen};
use cledger_store::{Changed, Tree as _, append};

use crate::change::Changing;
use crate::trouble::Trouble;

/// What was added.
#[derive(Debug)]
pub struct Added {
    /// What it is.
    pub what: String,
    /// The files that have changed.
    pub files: Vec<String>,
    /// What needs a value now.
    pub missing: Vec<Effect>,
}

/// A file's new text with a block of lines at its end.
pub(crate) fn appended(
    changing: &Changing,
    path: &str,
    block: &str,
) -> Result<(String, Option<String>), Trouble> {
    let text = changing.disk().text(path);
    let text = text.map_err(|error| Trouble::usage(format!("`{path}` cannot be edited: {error}")))?;
    Ok((path.to_owned(), Some(append(text.as_deref(), block))))
}

/// Writes what was added, and says what needs a value now.
pub(crate) fn write(changing: &Changing, changed: Changed, what: String) -> Result<Added, Trouble> {
    let mut planned = changing.plan_texts(changed)?;
    changing.refuse_bad_rows(&planned)?;
    changing.write(&planned)?;
    let is_missing = |effect: &Effect| effect.after == Seen::Missing && effect.before == Seen::NotThere;
    planned.effects.retain(is_missing);
    Ok(Added { what, files: planned.changed.into_keys().collect(), missing: planned.effects })
}
