//! `add` for programs.

use cledger_work::add::Added;
use serde::Serialize;

use super::FORMAT;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'a> {
    format: u32,
    added: &'a str,
    files: &'a [String],
    missing: Vec<String>,
    /// The paths of the outputs into which a new entry of a unit comes.
    #[serde(skip_serializing_if = "Option::is_none")]
    outputs: Option<&'a [String]>,
    /// How many settings were taken over from another stage.
    #[serde(skip_serializing_if = "Option::is_none")]
    copied: Option<usize>,
    /// The secrets that were made for it.
    made: &'a [String],
    /// The form that was written.
    #[serde(skip_serializing_if = "Option::is_none")]
    form: Option<String>,
    /// Whether it is done.
    written: bool,
}

pub(crate) fn document(added: &Added) -> Document<'_> {
    let missing = added.missing.iter().map(|effect| effect.address.to_string()).collect();
    Document {
        format: FORMAT,
        added: &added.what,
        files: &added.files,
        missing,
        outputs: added.outputs.as_deref(),
        copied: added.copied,
        made: &added.made,
        form: added.form.as_ref().map(|(path, _)| path.display().to_string()),
        written: added.written,
    }
}
