//! `capture` for programs: where it went, and what is not in it. The capture itself is a JSON document, too.

use std::collections::BTreeMap;
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
    /// Of how many units it has what the ledger says; null where that is not kept.
    said: Option<usize>,
    not_known: Vec<NotIn<'c>>,
    left_out: Vec<NotIn<'c>>,
    /// What the ledger says and is not in it, each with the reason.
    unsaid: &'c [String],
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
        said: capture.said.as_ref().map(BTreeMap::len),
        unsaid: &captured.unsaid,
        not_known: counted.iter().flat_map(|it| not_in(&it.outlet, &it.not_known)).collect(),
        left_out: counted.iter().flat_map(|it| not_in(&it.outlet, &it.left_out)).collect(),
    }
}
