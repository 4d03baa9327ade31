//! The document in place of a result, where a command ends without doing its work.

use cledger_store::Unreadable;
use serde::Serialize;

use super::FORMAT;
use crate::error::CliError;
use crate::output::diagnostics::{before, spoiling};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'e> {
    format: u32,
    error: ErrorDocument<'e>,
}

#[derive(Debug, Serialize)]
struct ErrorDocument<'e> {
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

pub(crate) fn document(error: &CliError) -> Document<'_> {
    let (message, help, mistakes) = match error {
        CliError::Plain { message, help, .. } => (message.clone(), help.as_deref(), Vec::new()),
        CliError::Unreadable(unreadable) => (unreadable.to_string(), None, mistakes(unreadable)),
        CliError::Spoiling(unreadable) => (spoiling(unreadable), None, mistakes(unreadable)),
        CliError::Before(revision, unreadable) => (before(revision, unreadable), None, mistakes(unreadable)),
    };
    Document { format: FORMAT, error: ErrorDocument { message, help, mistakes } }
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
