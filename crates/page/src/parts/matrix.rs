//! Fields down, stages across: a table for each unit.

use cledger_core::matrix::{Cell as Outcomes, Row as Field};
use cledger_core::model::Ledger;
use cledger_core::resolve::Outcome;
use cledger_work::matrix::{Matrix, ToTabulate, matrix};
use cledger_work::shown::{effective, origin};
use cledger_work::{Opened, Trouble};

use crate::model::{Block, Cell, Meaning, Row, Section, Table};

/// The fields that a pattern covers, or all.
pub(super) fn section(opened: &Opened, pattern: Option<&str>) -> Result<Section, Trouble> {
    let asked = ToTabulate { pattern: pattern.map(str::to_owned), ..ToTabulate::default() };
    let outside = opened.unfetched();
    let Matrix { ledger, stages, rows } = matrix(opened, &outside, &asked)?;
    let stages = stages.iter().map(|&stage| ledger.stage(stage).name.to_string());
    let heads: Vec<String> = ["entry".to_owned()].into_iter().chain(stages).collect();
    let owner = |row: &Field<'_>| row.address.owner.as_ref().map(ToString::to_string).unwrap_or_default();
    let tables = rows.chunk_by(|one, other| one.address.owner == other.address.owner).map(|of_unit| {
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
    let address = row.address.to_string();
    let entry = address.split_once('/').map_or(address.clone(), |(_, entry)| entry.to_owned());
    let cells = row.cells.iter().zip(row.outliers()).map(|(cell, is_other)| {
        let cell = outcome(ledger, cell);
        // Where most stages have another one.
        if is_other { Cell { meaning: Meaning::Doubtful, ..cell } } else { cell }
    });
    Row {
        id: entry.clone(),
        differs: row.differs(),
        lacks: row.is_missing_somewhere(),
        cells: [Cell::plain(entry)].into_iter().chain(cells).collect(),
    }
}

/// What a field comes to, with where that is from.
fn outcome(ledger: &Ledger, cell: &Outcomes<'_>) -> Cell {
    let Some(outcome) = cell else { return Cell::meaning("-", Meaning::Quiet) };
    match outcome {
        Outcome::Value(value) => {
            Cell { note: Some(origin(ledger, value.origin)), ..Cell::plain(effective(value, false)) }
        }
        Outcome::Absent(at) => {
            Cell { note: Some(origin(ledger, *at)), ..Cell::meaning("absent", Meaning::Quiet) }
        }
        Outcome::Unset => Cell::meaning("not set", Meaning::Quiet),
        Outcome::Missing(..) => Cell::meaning("missing", Meaning::Bad),
        Outcome::Broken(problems) => {
            Cell::meaning(problems.first().map_or("wrong", |problem| problem.code.name()), Meaning::Bad)
        }
    }
}
