//! `remove` for programs.

use cledger_store::Mention;
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
    mentions: Vec<MentionDocument<'r>>,
    with_mentions: bool,
    /// The deliveries of it that are still there.
    delivered: &'r [String],
    effects: Vec<EffectDocument>,
}

/// A line that mentions what goes.
#[derive(Debug, Serialize)]
struct MentionDocument<'r> {
    file: &'r str,
    line: usize,
    text: &'r str,
}

impl<'r> MentionDocument<'r> {
    fn of(mention: &'r Mention) -> Self {
        Self { file: &mention.file, line: mention.line, text: &mention.text }
    }
}

pub(crate) fn document(removed: &Removed) -> Document<'_> {
    Document {
        format: FORMAT,
        removed: &removed.what,
        written: removed.written,
        files: removed.files.iter().map(|file| file.path.as_str()).collect(),
        mentions: removed.mentions.iter().map(MentionDocument::of).collect(),
        with_mentions: removed.with_mentions,
        delivered: &removed.delivered,
        effects: effects(&removed.effects),
    }
}
