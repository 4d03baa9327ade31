//! What is really there, compared with what the ledger says.

use std::sync::Arc;

use cledger_work::drift::words::{Told, told};
use cledger_work::drift::{ToLookAt, drift};
use cledger_work::reality::standing::UnitDrift;
use cledger_work::shown::Tone;
use cledger_work::{Kind, Trouble, Workplace};

use crate::model::{Block, Cell, Row, Section, Table};

/// How these stand, or all that outlets have.
pub(super) fn section(at: &Arc<Workplace>, addresses: &[String]) -> Result<(Section, Option<Kind>), Trouble> {
    let drift = drift(at, &ToLookAt { addresses: addresses.to_vec(), ..ToLookAt::default() })?;
    let clean = drift.units.iter().filter(|unit| unit.is_clean()).count();
    let rows: Vec<Row> = drift.units.iter().filter(|unit| !unit.is_clean()).flat_map(of_unit).collect();
    let all = drift.units.len();
    let said = format!("{clean} of {all} are as the ledger says, a unit counted at each of its outlets.");
    let tone = match drift.kind() {
        None => Tone::Good,
        Some(Kind::Outside) => Tone::Doubtful,
        Some(_) => Tone::Bad,
    };
    let mut blocks = vec![Block::Text(said, tone)];
    if !rows.is_empty() {
        let heads = ["unit", "outlet", "name", "ledger", "there", ""].map(str::to_owned).into();
        blocks.push(Block::Table(Table { title: None, heads, rows, folded: false }));
    }
    Ok((Section { id: "drift".to_owned(), title: "Drift".to_owned(), blocks }, drift.kind()))
}

fn of_unit(unit: &UnitDrift) -> Vec<Row> {
    let name = format!("{}@{}", unit.owner, unit.stage);
    let outlet = unit.outlet.as_ref().map(|(outlet, _)| outlet.clone()).unwrap_or_default();
    let row = |told: Told| {
        let id = format!("{name}-{outlet}-{}", told.what);
        let [ledger, there] = told.sides.map(Cell::plain);
        let word = Cell::toned(told.word, told.tone);
        let cells =
            vec![Cell::plain(&name), Cell::plain(&outlet), Cell::plain(told.what), ledger, there, word];
        Row { id, cells, differs: told.tone != Tone::Quiet, lacks: told.tone == Tone::Bad }
    };
    told(unit).into_iter().map(row).collect()
}
