//! What is really there, compared with what the ledger says.

use std::sync::Arc;

use cledger_core::drift::{Drifted, FileDrift, NameDrift};
use cledger_core::value::Held;
use cledger_work::drift::{ToLookAt, drift};
use cledger_work::reality::standing::{State, UnitDrift};
use cledger_work::shown::{MASK, one_line};
use cledger_work::{Kind, Trouble, Workplace};

use crate::model::{Block, Cell, Meaning, Row, Section, Table};

/// How these stand, or all that outlets have.
pub(super) fn section(at: &Arc<Workplace>, addresses: &[String]) -> Result<(Section, Option<Kind>), Trouble> {
    let drift = drift(at, &ToLookAt { addresses: addresses.to_vec(), ..ToLookAt::default() })?;
    let clean = drift.units.iter().filter(|unit| unit.is_clean()).count();
    let rows: Vec<Row> = drift.units.iter().filter(|unit| !unit.is_clean()).flat_map(of_unit).collect();
    let all = drift.units.len();
    let said = format!("{clean} of {all} are as the ledger says, a unit counted at each of its outlets.");
    let meaning = match drift.kind() {
        None => Meaning::Good,
        Some(Kind::Outside) => Meaning::Doubtful,
        Some(_) => Meaning::Bad,
    };
    let mut blocks = vec![Block::Text(said, meaning)];
    if !rows.is_empty() {
        let heads = ["unit", "outlet", "name", "ledger", "there", ""].map(str::to_owned).into();
        blocks.push(Block::Table(Table { title: None, heads, rows, folded: false }));
    }
    Ok((Section { id: "drift".to_owned(), title: "Drift".to_owned(), blocks }, drift.kind()))
}

fn of_unit(unit: &UnitDrift) -> Vec<Row> {
    let name = format!("{}@{}", unit.owner, unit.stage);
    let outlet = unit.outlet.as_ref().map(|(outlet, _)| outlet.clone()).unwrap_or_default();
    let row = |what: &str, [ledger, there]: [Cell; 2], (word, meaning): (String, Meaning)| {
        let cells = vec![
            Cell::plain(&name),
            Cell::plain(&outlet),
            Cell::plain(what),
            ledger,
            there,
            Cell::meaning(word, meaning),
        ];
        Row { id: format!("{name}-{outlet}-{what}"), cells, differs: true, lacks: meaning == Meaning::Bad }
    };
    let whole =
        |word: &str, meaning| vec![row("", [Cell::default(), Cell::default()], (word.to_owned(), meaning))];
    let files = match &unit.state {
        State::There(files) => files,
        State::NotThere => return whole("not there", Meaning::Bad),
        State::Unknown => return whole("there, but not in the ledger", Meaning::Bad),
        State::LeftOver(_) => return whole("left over: it does not belong there any more", Meaning::Bad),
        State::NotKnown(reason) => return whole(&format!("not known: {reason}"), Meaning::Doubtful),
        State::NothingRendered | State::Withdrawn => return Vec::new(),
    };
    let mut rows = Vec::new();
    for (path, file) in files {
        let alone =
            |word: &str| row(path, [Cell::default(), Cell::default()], (word.to_owned(), Meaning::Bad));
        match file {
            FileDrift::AsLedger | FileDrift::Theirs => {}
            FileDrift::NotThere => rows.push(alone("not there")),
            FileDrift::LeftOver => rows.push(alone("left over")),
            FileDrift::Unreadable(reason) => rows.push(alone(&format!("cannot be read: {reason}"))),
            FileDrift::TextDiffers { line, .. } => rows.push(alone(&format!("differs from line {line} on"))),
            FileDrift::Drifted(names) => {
                for drifted in names.iter().filter(|drifted| !drifted.waived) {
                    let since = drifted.since.map(|since| format!(": {}", since.words())).unwrap_or_default();
                    let word = format!("{}{since}", drifted.what.words());
                    let sides =
                        [side(drifted, drifted.expected.as_ref()), side(drifted, drifted.there.as_ref())];
                    let is_known = drifted.what != NameDrift::Unreadable;
                    let meaning = if is_known { Meaning::Bad } else { Meaning::Doubtful };
                    rows.push(row(&format!("{path} {}", drifted.name), sides, (word, meaning)));
                }
            }
        }
    }
    rows
}

/// A value of one side, where anybody may see it.
fn side(drifted: &Drifted, held: Option<&Held>) -> Cell {
    match held {
        None => Cell::meaning("none", Meaning::Quiet),
        Some(held) => match held.open() {
            Some(value) if !drifted.secret => Cell::plain(one_line(value)),
            _ => Cell::meaning(MASK, Meaning::Quiet),
        },
    }
}
