//! Fields down, stages across: a table for each unit.

use cledger_core::matrix::Row as Field;
use cledger_core::model::Ledger;
use cledger_core::trace::origin as origin_of;
use cledger_work::matrix::{Line, Matrix, ToTabulate, matrix};
use cledger_work::shown::origin;
use cledger_work::{Opened, Trouble};

use crate::model::{Block, Cell, Row, Section, Table};

/// The fields that a pattern covers, or all.
pub(super) fn section(opened: &Opened, pattern: Option<&str>) -> Result<Section, Trouble> {
    let asked = ToTabulate { pattern: pattern.map(str::to_owned), ..ToTabulate::default() };
    let outside = opened.unfetched();
    let Matrix { ledger, stages, rows } = matrix(opened, &outside, &asked)?;
    let stages = stages.iter().map(|&stage| ledger.stage(stage).name.to_string());
    let heads: Vec<String> = ["entry".to_owned()].into_iter().chain(stages).collect();
    let owner = |row: &Field<'_>| row.address.owner.as_ref().map(ToString::to_string).unwrap_or_default();
    let tables = rows.by_owner().iter().map(|of_unit| {
        Block::Table(Table {
            title: of_unit.first().map(owner),
            heads: heads.clone(),
            rows: of_unit.iter().map(|row| field(ledger, row)).collect(),
            folded: false,
        })
    });
    let title = pattern.map_or_else(|| "Values".to_owned(), |pattern| format!("Values of {pattern}"));
    Ok(Section { id: "matrix".to_owned(), title, blocks: tables.collect() })
}

fn field(ledger: &Ledger, row: &Field<'_>) -> Row {
    let line = Line::of(row);
    let cells = line.cells.into_iter().zip(&row.cells).map(|(shown, outcome)| {
        let from = outcome.as_ref().and_then(origin_of).filter(|_| !shown.is_elsewhere());
        Cell { note: from.map(|from| origin(ledger, from)), ..Cell::toned(shown.text, shown.tone) }
    });
    Row {
        id: line.entry.clone(),
        differs: row.differs(),
        lacks: row.is_missing_somewhere(),
        cells: [Cell::plain(&line.entry)].into_iter().chain(cells).collect(),
    }
}
