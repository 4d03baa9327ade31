//! The document in place of a result, where a command ends without doing its work.

use cledger_store::Unreadable;
use serde::Serialize;

use super::FORMAT;
use crate::output::diagnostics::{before, spoiling};
use cledger_work::Trouble;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'e> {
    format: u32,
    error: TroubleDocument<'e>,
}

#[derive(Debug, Serialize)]
pub(crate) struct TroubleDocument<'e> {
    message: String,
    help: Option<&'e str>,
    mistakes: Vec<MistakeDocument<'e>>,
}

#[derive(Debug, Serialize)]
struct MistakeDocument<'e> {
    message: &'e str,
    file: Option<&'e str>,
    line: Option<usize>,
    column: Option<usize>,
    help: Option<&'e str>,
}

pub(crate) fn document(trouble: &Trouble) -> Document<'_> {
    Document { format: FORMAT, error: self::trouble(trouble) }
}

/// What went wrong, within a document.
pub(crate) fn trouble(trouble: &Trouble) -> TroubleDocument<'_> {
    let (message, help, mistakes) = match trouble {
        Trouble::Plain { message, help, .. } => (message.clone(), help.as_deref(), Vec::new()),
        Trouble::Unreadable(unreadable) => (unreadable.to_string(), None, mistakes(unreadable)),
        Trouble::Spoiling(unreadable) => (spoiling(unreadable), None, mistakes(unreadable)),
        Trouble::Before(revision, unreadable) => (before(revision, unreadable), None, mistakes(unreadable)),
    };
    TroubleDocument { message, help, mistakes }
}

fn mistakes(unreadable: &Unreadable) -> Vec<MistakeDocument<'_>> {
    let documents = unreadable.mistakes.iter().map(|mistake| {
        let at = mistake.place.map(|place| unreadable.files.locate(place));
        MistakeDocument {
            message: &mistake.message,
            file: at.as_ref().map(|at| at.file).or(mistake.path.as_deref()),
            line: at.as_ref().map(|at| at.line),
            column: at.as_ref().map(|at| at.column),
            help: mistake.help.as_deref(),
        }
    });
    documents.collect()
}
