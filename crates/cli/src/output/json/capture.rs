//! `capture` for programs: where it went, and what is not in it. The capture itself is a JSON document, too.

use std::path::Path;

use cledger_work::capture::Captured;
use serde::Serialize;

use super::FORMAT;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'c> {
    format: u32,
    file: String,
    written: bool,
    stage: &'c str,
    taken: &'c str,
    outlets: usize,
    there: usize,
    unknown: usize,
    not_known: Vec<NotIn<'c>>,
    left_out: Vec<NotIn<'c>>,
}

/// Something that is not in the capture.
#[derive(Debug, Serialize)]
struct NotIn<'c> {
    outlet: &'c str,
    reason: &'c str,
}

pub(crate) fn document<'c>(captured: &'c Captured, path: &Path, written: bool) -> Document<'c> {
    let (capture, counted) = (&captured.capture, &captured.counted);
    let not_in =
        |outlet: &'c str, reasons: &'c [String]| reasons.iter().map(move |reason| NotIn { outlet, reason });
    Document {
        format: FORMAT,
        file: path.display().to_string(),
        written,
        stage: capture.stage.as_str(),
        taken: &capture.taken,
        outlets: capture.outlets.len(),
        there: counted.iter().map(|outlet| outlet.there).sum(),
        unknown: counted.iter().map(|outlet| outlet.unknown).sum(),
        not_known: counted.iter().flat_map(|it| not_in(&it.outlet, &it.not_known)).collect(),
        left_out: counted.iter().flat_map(|it| not_in(&it.outlet, &it.left_out)).collect(),
    }
}
