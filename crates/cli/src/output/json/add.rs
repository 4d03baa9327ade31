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
        written: added.written,
    }
}
