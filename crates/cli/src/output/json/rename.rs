//! `rename` and `share` for programs.

use cledger_work::rename::{Renamed, RenderedName};
use cledger_work::touched::TouchedFile;
use serde::Serialize;

use super::FORMAT;
use super::change::{EffectDocument, effects};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'r> {
    format: u32,
    from: &'r str,
    to: &'r str,
    written: bool,
    files: Vec<&'r str>,
}

pub(crate) fn document<'r>(
    (from, to): (&'r str, &'r str),
    files: &'r [TouchedFile],
    written: bool,
) -> Document<'r> {
    Document {
        format: FORMAT,
        from,
        to,
        written,
        files: files.iter().map(|file| file.path.as_str()).collect(),
    }
}

/// What has another name.
#[derive(Debug, Serialize)]
pub(crate) struct RenamedDocument<'r> {
    #[serde(flatten)]
    renamed: Document<'r>,
    /// The names of rendered files, and in them, that change with it.
    rendered: Vec<RenderedDocument<'r>>,
    effects: Vec<EffectDocument>,
}

/// A name of a rendered file, or in one.
#[derive(Debug, Serialize)]
pub(crate) struct RenderedDocument<'r> {
    of: &'r str,
    before: &'r str,
    after: &'r str,
}

pub(crate) fn renamed(renamed: &Renamed) -> RenamedDocument<'_> {
    RenamedDocument {
        renamed: document((&renamed.from, &renamed.to), &renamed.files, renamed.written),
        rendered: rendered(&renamed.rendered),
        effects: effects(&renamed.effects),
    }
}

pub(crate) fn rendered(names: &[RenderedName]) -> Vec<RenderedDocument<'_>> {
    names.iter().map(|it| RenderedDocument { of: &it.of, before: &it.before, after: &it.after }).collect()
}
