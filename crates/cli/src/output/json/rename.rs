//! `rename` for programs.

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
    from: &'r str,
    to: &'r str,
    files: &'r [(String, &'static str)],
    written: bool,
) -> Document<'r> {
    Document {
        format: FORMAT,
        from,
        to,
        written,
        files: files.iter().map(|(path, _)| path.as_str()).collect(),
    }
}
