//! `capture` for programs: where it went. The capture itself is a JSON document, too.

use std::path::Path;

use cledger_store::Capture;
use serde::Serialize;

use super::FORMAT;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'c> {
    format: u32,
    file: String,
    stage: &'c str,
    taken: &'c str,
    outlets: usize,
}

pub(crate) fn document<'c>(capture: &'c Capture, path: &Path) -> Document<'c> {
    Document {
        format: FORMAT,
        file: path.display().to_string(),
        stage: capture.stage.as_str(),
        taken: &capture.taken,
        outlets: capture.outlets.len(),
    }
}
