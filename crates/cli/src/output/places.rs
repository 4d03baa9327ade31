//! Where findings are, for tools that open files: paths from the current folder.

use std::path::{Path, PathBuf};

use cledger_core::findings::Finding;
use cledger_core::model::Ledger;
use cledger_core::source::Place;

/// A file, and line and column from 1.
pub(crate) struct At {
    pub(crate) path: String,
    pub(crate) line: usize,
    pub(crate) column: usize,
    /// Line and column behind it.
    pub(crate) end: (usize, usize),
}

/// Turns places in a ledger's files into paths from the current folder.
pub(crate) struct Places<'l> {
    pub(crate) ledger: &'l Ledger,
    prefix: PathBuf,
}

impl<'l> Places<'l> {
    /// For a ledger in the folder `root`, seen from `here`.
    pub(crate) fn new(ledger: &'l Ledger, root: &Path, here: &Path) -> Self {
        let prefix = root.strip_prefix(here).unwrap_or(root).to_owned();
        Self { ledger, prefix }
    }

    /// Where a finding is; one without a place is about the ledger as a whole.
    pub(crate) fn of(&self, finding: &Finding) -> At {
        let (file, line, column, end) = match finding.place {
            Some(place) => {
                let files = &self.ledger.files;
                let end = files.locate(Place { start: place.end, ..place });
                let at = files.locate(place);
                (at.file, at.line, at.column, (end.line, end.column))
            }
            None => (cledger_store::MANIFEST, 1, 1, (1, 1)),
        };
        At { path: self.prefix.join(file).to_string_lossy().into_owned(), line, column, end }
    }
}
