//! `rename` for programs.

use cledger_work::touched::TouchedFile;
use serde::Serialize;

use super::FORMAT;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'r> {
    format: u32,
    from: &'r str,
    to: &'r str,
    written: bool,
    files: Vec<&'r str>,
}

pub(crate) fn document<'r>(
    (from, to): (&'r str, &'r str),
    files: &'r [TouchedFile],
    written: bool,
) -> Document<'r> {
    Document {
        format: FORMAT,
        from,
        to,
        written,
        files: files.iter().map(|file| file.path.as_str()).collect(),
    }
}
