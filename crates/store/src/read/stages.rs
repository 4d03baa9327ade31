//! Stages that other tables of `ledger.toml` name.

use std::ops::Range;

use cledger_core::model::{Stage, StageId};
use cledger_core::name::nearest;

use super::frame::In;

/// The stage that a text names, or a mistake with the nearest one.
pub(super) fn named_stage(read: In<'_>, stages: &[Stage], text: &str, span: Range<usize>) -> Option<StageId> {
    let found = (0_u16..).zip(stages).find(|(_, stage)| stage.name.as_str() == text);
    if found.is_none() {
        let help = match nearest(text, stages.iter().map(|stage| stage.name.as_str())) {
            Some(near) => format!("did you mean \"{near}\"?"),
            None => format!("declare it: [[stage]] name = \"{text}\""),
        };
        read.wrong_with(span, format!("there is no stage `{text}`"), help);
    }
    found.map(|(position, _)| StageId(position))
}
