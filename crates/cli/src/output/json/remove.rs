//! `remove` for programs.

use cledger_core::effects::Effect;
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

pub(crate) fn document<'r>(
    removed: &'r [String],
    files: &'r [(String, &'static str)],
    changed: &[Effect],
    written: bool,
) -> Document<'r> {
    let files = files.iter().map(|(path, _)| path.as_str()).collect();
    Document { format: FORMAT, removed, written, files, effects: effects(changed) }
}
