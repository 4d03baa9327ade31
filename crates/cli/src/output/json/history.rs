//! `history` for programs.

use cledger_store::daybook::{Meta, Record};
use serde::Serialize;

use super::FORMAT;
use cledger_work::deliver::history::{History, Verified as Verification};

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

pub(crate) fn document(history: &History) -> Document<'_> {
    Document {
        format: FORMAT,
        records: history.records.iter().map(record).collect(),
        more: history.more,
        left_open: history.opened.iter().collect(),
    }
}

#[derive(Debug, Serialize)]
pub(crate) struct Verified<'h> {
    format: u32,
    records: usize,
    whole: bool,
    broken: Option<&'h str>,
    not_readable: usize,
}

pub(crate) fn verified(verified: &Verification) -> Verified<'_> {
    let Verification { records, broken, not_readable } = verified;
    let (records, not_readable) = (*records, *not_readable);
    Verified { format: FORMAT, records, whole: broken.is_none(), broken: broken.as_deref(), not_readable }
}

/// A daybook that was copied whole.
pub(crate) fn copied(records: usize) -> Verified<'static> {
    Verified { format: FORMAT, records, whole: true, broken: None, not_readable: 0 }
}
