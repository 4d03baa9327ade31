//! `matrix` for programs.

use cledger_core::matrix::{Cell, Rows};
use cledger_core::model::{Ledger, StageId};
use cledger_core::resolve::{Outcome, Unread};
use serde::Serialize;

use super::FORMAT;
use crate::output::values;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'l> {
    format: u32,
    stages: Vec<&'l str>,
    rows: Vec<RowDocument>,
}

#[derive(Debug, Serialize)]
struct RowDocument {
    address: String,
    cells: Vec<CellDocument>,
}

/// A cell: `state` is `value`, `not-readable`, `absent`, `none`, `missing`, `not-there` or the code of a problem.
#[derive(Debug, Serialize)]
struct CellDocument {
    state: &'static str,
    value: serde_json::Value,
    secret: bool,
    layer: Option<&'static str>,
}

pub(crate) fn document<'l>(ledger: &'l Ledger, stages: &[StageId], rows: &Rows<'_>) -> Document<'l> {
    let rows = rows.iter().map(|row| RowDocument {
        address: row.address.to_string(),
        cells: row.cells.iter().map(cell).collect(),
    });
    Document {
        format: FORMAT,
        stages: stages.iter().map(|&stage| ledger.stage(stage).name.as_str()).collect(),
        rows: rows.collect(),
    }
}

fn cell(cell: &Cell<'_>) -> CellDocument {
    let state = match cell {
        None => "not-there",
        Some(Outcome::Value(effective)) => {
            return CellDocument {
                state: if effective.unread() == Some(Unread::NoKey) { "not-readable" } else { "value" },
                value: values::json(effective, false),
                secret: effective.is_secret(),
                layer: Some(effective.origin.layer.word()),
            };
        }
        Some(Outcome::Absent(_)) => "absent",
        Some(Outcome::Unset) => "none",
        Some(Outcome::Missing(..)) => "missing",
        Some(Outcome::Broken(problems)) => problems.first().map_or("missing", |problem| problem.code.name()),
    };
    CellDocument { state, value: serde_json::Value::Null, secret: false, layer: None }
}
