//! `history` for programs.

use cledger_store::daybook::{Entry, Meta, Record};
use serde::Serialize;

use super::FORMAT;
use super::at::{self, OutletPlan};
use super::brought::{OneBrought, one_brought};
use cledger_work::deliver::history::{History, Verified as Verification};
use cledger_work::deliver::overwritten::{BroughtBack, Overwritten};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'h> {
    format: u32,
    records: Vec<RecordDocument<'h>>,
    more: usize,
    left_open: Vec<&'h Meta>,
}

#[derive(Debug, Serialize)]
pub(crate) struct RecordDocument<'h> {
    #[serde(flatten)]
    meta: &'h Meta,
    hash: &'h str,
}

pub(crate) fn record(record: &Record) -> RecordDocument<'_> {
    RecordDocument { meta: &record.meta, hash: &record.hash }
}

fn entry(entry: &Entry) -> RecordDocument<'_> {
    RecordDocument { meta: &entry.meta, hash: &entry.hash }
}

pub(crate) fn document(history: &History) -> Document<'_> {
    Document {
        format: FORMAT,
        records: history.records.iter().map(entry).collect(),
        more: history.more,
        left_open: history.opened.iter().collect(),
    }
}

#[derive(Debug, Serialize)]
pub(crate) struct Verified<'h> {
    format: u32,
    records: usize,
    whole: bool,
    /// What is wrong.
    broken: &'h [String],
    not_readable: usize,
}

pub(crate) fn verified(verified: &Verification) -> Verified<'_> {
    let Verification { records, broken, not_readable } = verified;
    let (records, not_readable) = (*records, *not_readable);
    Verified { format: FORMAT, records, whole: broken.is_empty(), broken, not_readable }
}

/// A daybook that was copied whole.
pub(crate) fn copied(records: usize) -> Verified<'static> {
    Verified { format: FORMAT, records, whole: true, broken: &[], not_readable: 0 }
}

#[derive(Debug, Serialize)]
pub(crate) struct OverwrittenDocument<'o> {
    format: u32,
    unit: &'o str,
    stage: &'o str,
    number: u64,
    /// Where, with how many lines there were.
    places: Vec<OverwrittenPlace<'o>>,
}

#[derive(Debug, Serialize)]
struct OverwrittenPlace<'o> {
    place: &'o str,
    lines: usize,
}

/// What a delivery has overwritten that was not ours.
pub(crate) fn overwritten(overwritten: &Overwritten) -> OverwrittenDocument<'_> {
    let meta = &overwritten.record.meta;
    OverwrittenDocument {
        format: FORMAT,
        unit: &meta.unit,
        stage: &meta.stage,
        number: meta.number,
        places: overwritten
            .places
            .iter()
            .map(|(place, lines)| OverwrittenPlace { place, lines: *lines })
            .collect(),
    }
}

#[derive(Debug, Serialize)]
pub(crate) struct BroughtBackDocument<'o> {
    format: u32,
    written: bool,
    of: &'o str,
    number: Option<u64>,
    plan: Vec<OutletPlan<'o>>,
    outlets: Vec<OneBrought<'o>>,
}

/// What bringing that back comes to.
pub(crate) fn brought_back(back: &BroughtBack) -> BroughtBackDocument<'_> {
    BroughtBackDocument {
        format: FORMAT,
        written: back.write,
        of: &back.of,
        number: back.number,
        plan: at::outlets(&back.outlets),
        outlets: back.brought.iter().map(one_brought).collect(),
    }
}
