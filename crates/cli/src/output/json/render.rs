//! `render` for programs.

use cledger_core::findings::Finding;
use cledger_core::model::Ledger;
use serde::Serialize;

use super::FORMAT;
use super::check::{self, FindingDocument};
use crate::output::text::render::{RenderedFile, word};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'r> {
    format: u32,
    stage: &'r str,
    files: Vec<FileDocument>,
    gaps: Vec<FindingDocument<'r>>,
}

#[derive(Debug, Serialize)]
struct FileDocument {
    path: String,
    secret: bool,
    written: &'static str,
}

pub(crate) fn document<'r>(
    ledger: &'r Ledger,
    stage: &'r str,
    files: &[RenderedFile],
    gaps: &'r [Finding],
) -> Document<'r> {
    let file = |file: &RenderedFile| FileDocument {
        path: file.path.display().to_string(),
        secret: file.secret,
        written: word(file.written),
    };
    Document {
        format: FORMAT,
        stage,
        files: files.iter().map(file).collect(),
        gaps: gaps.iter().map(|gap| check::finding(ledger, gap)).collect(),
    }
}
