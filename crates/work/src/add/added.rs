//! What was added, written.

use std::path::PathBuf;

use cledger_core::effects::{Effect, Seen};
use cledger_core::model::Ledger;
use cledger_store::{Changed, Edit, Tree as _, What, append, apply, said};

use crate::change::{Changing, Planned};
use crate::declare::ToDo;
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
    /// The paths of the outputs into which a new entry of a unit comes; none where the unit has none, or something
    /// else was added.
    pub outputs: Option<Vec<String>>,
    /// How many settings were taken over from another stage, where it is a copy of one.
    pub copied: Option<usize>,
    /// The secrets that were made for it.
    pub made: Vec<String>,
    /// The form that was written, and for how many values.
    pub form: Option<(PathBuf, usize)>,
    /// Whether it is done.
    pub written: bool,
    /// How it is done where it is not.
    pub to_do: ToDo,
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

/// A file's new text with a table of these two steps: with a header of its own, or in the braces that are there.
pub(crate) fn with_table(
    changing: &Changing,
    path: &str,
    steps: [&str; 2],
    pairs: &[(String, String)],
) -> Result<Changed, Trouble> {
    let file = changing.ledger().files.0.iter().find(|file| file.path == path);
    let is_in_braces = file
        .and_then(|file| said(&file.text, &[], &[steps[0].to_owned()]))
        .is_some_and(|it| it.starts_with('{'));
    if is_in_braces {
        let pairs: Vec<String> = pairs.iter().map(|(key, text)| format!("{key} = {text}")).collect();
        let literal = if pairs.is_empty() { "{}".to_owned() } else { format!("{{ {} }}", pairs.join(", ")) };
        let path_in = steps.map(str::to_owned).into();
        let edit = Edit { file: path.to_owned(), path: path_in, header: 1, what: What::Set(literal) };
        return Ok(apply(changing.disk(), &[edit])?);
    }
    let lines: Vec<String> = pairs.iter().map(|(key, text)| format!("{key} = {text}\n")).collect();
    let block = format!("[{}.{}]\n{}", steps[0], steps[1], lines.concat());
    Ok(Changed::from([appended(changing, path, &block)?]))
}

/// Writes what was added, and says what needs a value now.
pub(crate) fn write(changing: &Changing, changed: Changed, what: String) -> Result<Added, Trouble> {
    Ok(written(changing, changed, what)?.0)
}

/// The same, with the ledger after it.
pub(crate) fn written(
    changing: &Changing,
    changed: Changed,
    what: String,
) -> Result<(Added, Ledger), Trouble> {
    let planned = changing.plan_texts(changed)?;
    changing.refuse_bad_rows(&planned)?;
    written_as_planned(changing, planned, what)
}

/// Writes a change that is granted, and says what needs a value now; with the ledger after it.
pub(crate) fn written_as_planned(
    changing: &Changing,
    mut planned: Planned,
    what: String,
) -> Result<(Added, Ledger), Trouble> {
    changing.write(&planned)?;
    let is_missing = |effect: &Effect| effect.after == Seen::Missing && effect.before == Seen::NotThere;
    planned.effects.retain(is_missing);
    let files = planned.changed.into_keys().collect();
    Ok((
        Added {
            what,
            files,
            missing: planned.effects,
            outputs: None,
            copied: None,
            made: Vec::new(),
            form: None,
            written: changing.writes(),
            to_do: ToDo::NoDryRun,
        },
        planned.after,
    ))
}
