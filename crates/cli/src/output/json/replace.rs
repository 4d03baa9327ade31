//! `replace` for programs.

use serde::Serialize;

use super::FORMAT;
use super::change::{EffectDocument, FindingDocument, effects, findings};
use super::rename::{RenderedDocument, rendered};
use cledger_work::replace::Replacement;
use cledger_work::replace::changes::Names;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'r> {
    format: u32,
    written: bool,
    replaced: Vec<ReplacedDocument<'r>>,
    renamed: Vec<RenamedDocument<'r>>,
    /// The names of rendered files, and in them, that change with these.
    rendered: Vec<RenderedDocument<'r>>,
    effects: Vec<EffectDocument>,
    caused: Vec<FindingDocument<'r>>,
    cured: Vec<FindingDocument<'r>>,
    in_references: &'r [String],
}

#[derive(Debug, Serialize)]
struct ReplacedDocument<'r> {
    address: &'r str,
    file: &'r str,
    line: usize,
    before: &'r str,
    after: &'r str,
}

#[derive(Debug, Serialize)]
struct RenamedDocument<'r> {
    of: Names,
    address: &'r str,
    output_format: Option<&'static str>,
    before: &'r str,
    after: &'r str,
}

pub(crate) fn document(replacement: &Replacement) -> Document<'_> {
    let replaced = replacement.replaced.iter().map(|one| ReplacedDocument {
        address: &one.address,
        file: &one.file,
        line: one.line,
        before: &one.before,
        after: &one.after,
    });
    let renamed = replacement.renamed.iter().map(|one| RenamedDocument {
        of: one.which,
        address: &one.address,
        output_format: one.format,
        before: &one.before,
        after: &one.after,
    });
    Document {
        format: FORMAT,
        written: replacement.written,
        replaced: replaced.collect(),
        renamed: renamed.collect(),
        rendered: rendered(&replacement.rendered),
        effects: effects(&replacement.effects),
        caused: findings(&replacement.caused),
        cured: findings(&replacement.cured),
        in_references: &replacement.in_references,
    }
}
