//! `chores` for programs.

use serde::Serialize;

use super::FORMAT;
use cledger_work::deliver::chores::{ChoreDone, OpenChore};

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

#[derive(Debug, Serialize)]
pub(crate) struct DoneDocument<'c> {
    format: u32,
    done: OneDone<'c>,
    written: bool,
}

#[derive(Debug, Serialize)]
struct OneDone<'c> {
    unit: &'c str,
    stage: &'c str,
    text: &'c str,
}

/// A chore that was done.
pub(crate) fn done(chore: &ChoreDone) -> DoneDocument<'_> {
    let done = OneDone { unit: &chore.owner, stage: &chore.stage, text: &chore.text };
    DoneDocument { format: FORMAT, done, written: chore.written }
}
