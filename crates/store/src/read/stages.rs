//! Stages that other tables name, by themselves or by patterns.

use std::ops::Range;

use cledger_core::model::{SomeStages, Stage, StageId};
use cledger_core::name::nearest;

use super::frame::{In, Item};

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

/// For each stage, whether one of the patterns covers it.
pub(super) fn belongs(read: In<'_>, item: Item<'_, '_>, stages: &[Stage]) -> Vec<bool> {
    let mut belongs = vec![false; stages.len()];
    for (text, span) in read.texts(item, "`stages`") {
        let Some(pattern) = stage_pattern(read, text, span.clone()) else { continue };
        let mut found = false;
        for (here, stage) in belongs.iter_mut().zip(stages) {
            let covered = pattern.covers_stage(stage.name.as_str());
            found |= covered;
            *here |= covered;
        }
        if !found && !text.contains(['*', '?']) {
            let near = nearest(text, stages.iter().map(|stage| stage.name.as_str()));
            let help =
                near.map_or("ledger.toml lists the stages".to_owned(), |n| format!("did you mean \"{n}\"?"));
            read.wrong_with(span, format!("there is no stage `{text}`"), help);
        }
    }
    belongs
}

/// Some stages: the patterns as they are written, and what they cover.
pub(super) fn some_stages(read: In<'_>, item: Item<'_, '_>, stages: &[Stage]) -> SomeStages {
    let said = read.texts(item, "`stages`").into_iter().map(|(text, _)| text.to_owned()).collect();
    SomeStages { said, covered: belongs(read, item, stages) }
}

fn stage_pattern(read: In<'_>, text: &str, span: Range<usize>) -> Option<cledger_core::address::Pattern> {
    let plain = !text.is_empty() && !text.contains(['@', '/', '.', '+', ':']);
    match cledger_core::address::Pattern::parse(&format!("@{text}")) {
        Ok(pattern) if plain => Some(pattern),
        _ => {
            read.wrong(span, format!("`{text}` is no pattern of stage names"));
            None
        }
    }
}
