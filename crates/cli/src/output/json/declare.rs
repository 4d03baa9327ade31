//! What was declared or changed, for programs.

use cledger_work::declare::Declared;
use serde::Serialize;

use super::FORMAT;
use super::change::{EffectDocument, FindingDocument, effects, findings};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'d> {
    format: u32,
    /// What it is.
    declared: &'d str,
    new: bool,
    keys: Vec<KeyDocument<'d>>,
    files: Vec<&'d str>,
    /// How many settings are written for it, where it is a field or an entry.
    settings: Option<usize>,
    effects: Vec<EffectDocument>,
    caused: Vec<FindingDocument<'d>>,
    cured: Vec<FindingDocument<'d>>,
    written: bool,
}

/// A key, with what it says as TOML; null where it is not said.
#[derive(Debug, Serialize)]
struct KeyDocument<'d> {
    name: &'d str,
    before: Option<&'d str>,
    after: Option<&'d str>,
}

pub(crate) fn document(declared: &Declared) -> Document<'_> {
    let keys = declared.keys.iter().map(|key| KeyDocument {
        name: &key.name,
        before: key.before.as_deref(),
        after: key.after.as_deref(),
    });
    Document {
        format: FORMAT,
        declared: &declared.what,
        new: declared.is_new,
        keys: keys.collect(),
        files: declared.files.iter().map(|file| file.path.as_str()).collect(),
        settings: declared.settings,
        effects: effects(&declared.effects),
        caused: findings(&declared.caused),
        cured: findings(&declared.cured),
        written: declared.written,
    }
}
