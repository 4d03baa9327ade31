//! A change of the ledger that was interrupted, to be finished or put back.

use std::path::Path;
use std::time::Duration;

use cledger_store::{Folder, Glance, Interrupted, Locked, OpenChange, Since};

use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// An open change, and what becomes of it.
#[derive(Debug)]
pub struct Resumed {
    /// The change.
    pub change: OpenChange,
    /// What becomes of it, if somebody says so.
    pub how: Option<Interrupted>,
    /// Whether that is done.
    pub written: bool,
}

impl Resumed {
    /// What becomes of a file.
    pub fn word(&self, since: Since) -> &'static str {
        match (since, self.how) {
            (Since::Edited, _) => "edited since",
            (Since::AsBefore, Some(Interrupted::PutBack))
            | (Since::AsAfter, Some(Interrupted::FinishRest)) => "stays",
            (Since::AsBefore, None) => "not made yet",
            (Since::AsAfter, None) => "made",
            (_, Some(_)) if !self.written => "would be written",
            (_, Some(_)) => "written",
        }
    }
}

/// Shows a change that was interrupted, or does with it what is said; [`None`] if there is none.
pub fn resume(
    at: &Workplace,
    how: Option<Interrupted>,
    wait: Duration,
    write: bool,
) -> Result<Option<Resumed>, Trouble> {
    let root = at.root()?;
    if write && how.is_none() {
        let message = "nothing says what becomes of the change";
        return Err(Trouble::usage(message).help("add --finish or --put-back"));
    }
    let change = match how.filter(|_| write) {
        Some(how) => Locked::settle(&root, wait, how)?.settled().cloned(),
        None => seen(&root)?,
    };
    Ok(change.map(|change| Resumed { change, how, written: write }))
}

/// The change that is open, as whoever reads finds it.
fn seen(root: &Path) -> Result<Option<OpenChange>, Trouble> {
    let folder = Folder::open(root).map_err(|error| Trouble::outside(error.to_string()))?;
    let glance = Glance::at(&folder);
    if let Some(foreign) = glance.foreign {
        return Err(Trouble::refused(foreign.to_string()).help(foreign.help()));
    }
    let open = glance.open.transpose();
    open.map_err(|no_plan| Trouble::refused(no_plan.to_string()).help(no_plan.help()))
}
