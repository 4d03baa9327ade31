//! Results as a command shows them: to people, or as one document for programs.

use cledger_work::{Kind, Trouble};
use serde::Serialize;

use super::console::Console;

/// A result that can be shown.
pub(crate) trait Shown {
    /// Shows it to people.
    fn print(&self, console: &mut Console);

    /// The same for programs: one document, described in `docs/formats.md`.
    fn document(&self) -> impl Serialize;

    /// What kind of trouble there was, if any: it makes the exit status.
    fn kind(&self) -> Option<Kind> {
        None
    }

    /// What ended the work after some of it was done, if anything did.
    fn trouble(&self) -> Option<&Trouble> {
        None
    }
}
