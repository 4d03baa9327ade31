//! `chores` for programs.

use serde::Serialize;

use super::FORMAT;
use crate::commands::OpenChore;

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

pub(crate) fn document<'c>(open: &'c [OpenChore<'c>]) -> Document<'c> {
    let open = open.iter().map(|one| ChoreDocument {
        unit: &one.owner,
        stage: &one.stage,
        text: &one.chore.text,
        after: one.after,
    });
    Document { format: FORMAT, open: open.collect() }
}
