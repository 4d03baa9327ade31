//! `report` for programs: what is in it, and where it is.

use std::path::Path;

use cledger_page::Report;
use serde::Serialize;

use super::FORMAT;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'r> {
    format: u32,
    file: String,
    written: bool,
    parts: Vec<PartDocument<'r>>,
}

#[derive(Debug, Serialize)]
struct PartDocument<'r> {
    /// Its name in links.
    id: &'r str,
    title: &'r str,
}

pub(crate) fn document<'r>(report: &'r Report, path: &Path, written: bool) -> Document<'r> {
    let part = |section: &'r cledger_page::Section| PartDocument { id: &section.id, title: &section.title };
    Document {
        format: FORMAT,
        file: path.display().to_string(),
        written,
        parts: report.page.sections.iter().map(part).collect(),
    }
}
