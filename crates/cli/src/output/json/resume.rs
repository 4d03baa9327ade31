//! `resume` for programs.

use serde::Serialize;

use super::FORMAT;
use cledger_work::resume::Resumed;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'r> {
    format: u32,
    open: bool,
    written: bool,
    files: Vec<File<'r>>,
}

#[derive(Debug, Serialize)]
struct File<'r> {
    path: &'r str,
    state: &'static str,
}

pub(crate) fn document(resumed: Option<&Resumed>) -> Document<'_> {
    let files = resumed.into_iter().flat_map(|resumed| {
        resumed.change.files.iter().map(|file| File { path: &file.path, state: resumed.word(file.since) })
    });
    let written = resumed.is_some_and(|resumed| resumed.written);
    Document { format: FORMAT, open: resumed.is_some() && !written, written, files: files.collect() }
}
