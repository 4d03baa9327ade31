//! `remove` for programs.

use cledger_work::remove::Removed;
use serde::Serialize;

use super::FORMAT;
use super::change::{EffectDocument, effects};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'r> {
    format: u32,
    removed: &'r [String],
    written: bool,
    files: Vec<&'r str>,
    effects: Vec<EffectDocument>,
}

pub(crate) fn document(removed: &Removed) -> Document<'_> {
    Document {
        format: FORMAT,
        removed: &removed.addresses,
        written: removed.written,
        files: removed.files.iter().map(|file| file.path.as_str()).collect(),
        effects: effects(&removed.effects),
    }
}
