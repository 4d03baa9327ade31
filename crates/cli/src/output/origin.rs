//! Saying where a value came from.

use cledger_core::model::Ledger;
use cledger_core::resolve::Origin;
use serde::Serialize;

pub(crate) use cledger_work::shown::origin as line;

/// An origin in a document.
#[derive(Debug, Serialize)]
pub(crate) struct OriginDocument<'l> {
    layer: &'static str,
    name: Option<&'l str>,
    file: Option<&'l str>,
    line: Option<usize>,
    column: Option<usize>,
}

/// An origin for a document.
pub(crate) fn document(ledger: &Ledger, origin: Origin) -> OriginDocument<'_> {
    let at = origin.place.map(|place| ledger.files.locate(place));
    OriginDocument {
        layer: origin.layer.word(),
        name: origin.layer.name(ledger),
        file: at.as_ref().map(|at| at.file),
        line: at.as_ref().map(|at| at.line),
        column: at.as_ref().map(|at| at.column),
    }
}
