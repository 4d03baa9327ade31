//! Saying where a value came from.

use cledger_core::model::Ledger;
use cledger_core::resolve::{Layer, Origin};
use serde::Serialize;

/// An origin on one line: the place, and the layer where the place does not say it.
pub(crate) fn line(ledger: &Ledger, origin: Origin) -> String {
    let place = origin.place.map(|place| ledger.files.locate(place));
    let at = place.map(|at| format!("{}:{}", at.file, at.line)).unwrap_or_default();
    match origin.layer {
        Layer::Stage(_) | Layer::Group(_) => at,
        Layer::Default => format!("default {at}"),
        Layer::Follow(stage) => {
            let name = &ledger.stage(stage).name;
            format!("follows {name} {at}")
        }
        Layer::Derived => format!("derived {at}"),
        Layer::Run => "--assume".to_owned(),
    }
}

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
