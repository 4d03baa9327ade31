//! `chores` for programs.

use serde::Serialize;

use super::FORMAT;
use cledger_work::deliver::chores::{ChoresDone, OpenChore, OpenSince};

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
    /// The delivery that it follows; null for one that comes before the first, or was asked for beside one.
    after: Option<u64>,
    /// When it was asked for beside a delivery.
    asked: Option<&'c str>,
}

pub(crate) fn document(open: &[OpenChore]) -> Document<'_> {
    let open = open.iter().map(|one| ChoreDocument {
        unit: &one.owner,
        stage: &one.stage,
        text: &one.text,
        after: match one.since {
            OpenSince::Delivery(number) => Some(number),
            _ => None,
        },
        asked: match &one.since {
            OpenSince::Time(time) => Some(time),
            _ => None,
        },
    });
    Document { format: FORMAT, open: open.collect() }
}

#[derive(Debug, Serialize)]
pub(crate) struct DoneDocument<'c> {
    format: u32,
    done: Vec<OneDone<'c>>,
    written: bool,
}

#[derive(Debug, Serialize)]
struct OneDone<'c> {
    unit: &'c str,
    stage: &'c str,
    text: &'c str,
}

/// Chores that were done.
pub(crate) fn done(chores: &ChoresDone) -> DoneDocument<'_> {
    let done = chores.done.iter();
    let done = done.map(|one| OneDone { unit: &one.owner, stage: &one.stage, text: &one.text });
    DoneDocument { format: FORMAT, done: done.collect(), written: chores.written }
}
