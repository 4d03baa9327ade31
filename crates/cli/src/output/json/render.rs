//! `render` for programs.

use cledger_work::render::{Rendered, RenderedFile};
use serde::Serialize;

use super::FORMAT;
use super::check::{self, FindingDocument};
use crate::output::text::render::word;

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

pub(crate) fn document(rendered: &Rendered) -> Document<'_> {
    let file = |file: &RenderedFile| FileDocument {
        path: file.path.display().to_string(),
        secret: file.secret,
        written: word(file.written),
    };
    Document {
        format: FORMAT,
        stage: &rendered.stage,
        files: rendered.files.iter().map(file).collect(),
        gaps: rendered.gaps.iter().map(|gap| check::finding(&rendered.ledger, gap)).collect(),
    }
}
