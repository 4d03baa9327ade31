//! `chores` for programs.

use serde::Serialize;

use super::FORMAT;
use cledger_work::deliver::chores::OpenChore;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'c> {
    format: u32,
    open: Vec<ChoreDocument<'c>>,
}

#[derive(Debug, Serialize)]
struct ChoreDocument<'c> {
    unit: &'c str,
    stage: &'c str,
    text: &'c str,
    /// The delivery that it follows; null for one that comes before the first.
    after: Option<u64>,
}

pub(crate) fn document(open: &[OpenChore]) -> Document<'_> {
    let open = open.iter().map(|one| ChoreDocument {
        unit: &one.owner,
        stage: &one.stage,
        text: &one.text,
        after: one.after,
    });
    Document { format: FORMAT, open: open.collect() }
}
