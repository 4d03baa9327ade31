//! Where findings are, for tools that open files: paths from the current folder.

use std::path::{Path, PathBuf};

use cledger_core::findings::Finding;
use cledger_core::model::Ledger;

/// A file, and line and column from 1.
pub(crate) struct At {
    pub(crate) path: String,
    pub(crate) line: usize,
    pub(crate) column: usize,
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
        let (file, line, column) = match finding.place {
            Some(place) => {
                let at = self.ledger.files.locate(place);
                (at.file, at.line, at.column)
            }
            None => (cledger_store::MANIFEST, 1, 1),
        };
        At { path: self.prefix.join(file).to_string_lossy().into_owned(), line, column }
    }
}
