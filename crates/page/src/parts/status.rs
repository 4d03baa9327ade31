//! Units on their way through the stages, and what is to be done.

use cledger_core::delivery::InStage;
use cledger_work::deliver::status::{Status, There, status};
use cledger_work::deliver::to_do::to_do;
use cledger_work::deliver::words;
use cledger_work::shown::Tone;
use cledger_work::{Opened, Trouble};

use crate::model::{Block, Cell, Grid, Row, Section, Table};

/// The most units of which a picture is drawn.
const DRAWN: usize = 80;

/// How these units stand; with `live` the outlets are looked at, too.
pub(super) fn section(opened: &Opened, units: &[String], live: bool) -> Result<Section, Trouble> {
    let status = status(opened, units, live)?;
    let stages: Vec<String> = status.ledger.stages.iter().map(|stage| stage.name.to_string()).collect();
    let rows = rows(&status);
    let said = if live {
        "By the records of deliveries, and what the outlets have now."
    } else {
        "By the records of deliveries; the outlets themselves were not looked at."
    };
    let mut blocks = vec![Block::Text(said.to_owned(), Tone::Quiet)];
    let is_drawn = rows.len() <= DRAWN;
    if is_drawn {
        blocks.push(Block::Grid(Grid {
            title: "Units and stages: what is there, and what waits".to_owned(),
            heads: stages.clone(),
            rows: rows.clone(),
        }));
    }
    let heads = ["unit".to_owned()].into_iter().chain(stages).collect();
    let row = |(name, cells): (String, Vec<Cell>)| {
        let lacks = cells.iter().any(|cell| cell.tone == Tone::Bad);
        let differs = cells.iter().any(|cell| matches!(cell.tone, Tone::Bad | Tone::Doubtful));
        let cells = [Cell::plain(&name)].into_iter().chain(cells).collect();
        Row { id: name, cells, differs, lacks }
    };
    blocks.push(Block::Table(Table {
        title: None,
        heads,
        rows: rows.into_iter().map(row).collect(),
        folded: is_drawn,
    }));
    let all = to_do(&status);
    if !all.is_empty() {
        let row = |(at, one): (usize, cledger_work::deliver::to_do::ToDo)| {
            let tone = if one.is_trouble { Tone::Bad } else { Tone::Plain };
            let cells = vec![Cell::plain(one.command), Cell::toned(one.because, tone)];
            Row { id: (at + 1).to_string(), cells, differs: false, lacks: one.is_trouble }
        };
        blocks.push(Block::Table(Table {
            title: Some("To do first".to_owned()),
            heads: vec!["command".to_owned(), "because".to_owned()],
            rows: all.into_iter().enumerate().map(row).collect(),
            folded: false,
        }));
    }
    Ok(Section { id: "status".to_owned(), title: "Status".to_owned(), blocks })
}

fn rows(status: &Status) -> Vec<(String, Vec<Cell>)> {
    let bundles = status.bundles.iter().map(|bundle| (bundle.name.clone(), &bundle.stages));
    let units = status.standings.iter().map(|standing| (standing.owner.clone(), &standing.stages));
    let cells = |stages: &Vec<Option<There>>| {
        stages.iter().map(|there| there.as_ref().map_or_else(Cell::default, cell)).collect()
    };
    bundles.chain(units).map(|(name, stages)| (name, cells(stages))).collect()
}

fn cell(there: &There) -> Cell {
    let tone = match (there.what, there.waits.first()) {
        (InStage::InPart(_) | InStage::NotKnown(_), _) => Tone::Bad,
        (_, Some((what, _))) if what.is_trouble() => Tone::Bad,
        (InStage::ByHand(_), _) | (_, Some(_)) => Tone::Doubtful,
        (InStage::Delivered(_), None) => Tone::Good,
        (InStage::Nothing | InStage::Withdrawn, None) => Tone::Quiet,
    };
    Cell::toned(words::whole(there), tone)
}
