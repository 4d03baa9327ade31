//! `matrix` for people: a cell for each field and stage, shortened to what fits.

use cledger_core::matrix::{Cell, Row};
use cledger_core::model::{Ledger, StageId};
use cledger_core::resolve::{Layer, Outcome};
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

use crate::output::console::Console;
use crate::output::table::{Table, Tone};
use crate::output::{style, values};
use cledger_work::shown::counted;

/// The narrowest column that still says something.
const NARROWEST: usize = 9;

/// What stands for the rest of a value.
const CUT: char = '…';

/// In front of entries, below their unit.
const INDENT: &str = "  ";

/// Between two columns.
const GAP: usize = 2;

pub(crate) fn print(console: &mut Console, ledger: &Ledger, stages: &[StageId], rows: &[Row<'_>]) {
    if rows.is_empty() {
        console.line("No such field.");
        return;
    }
    let first = rows.iter().map(|row| INDENT.len() + entry(row).width()).max().unwrap_or_default();
    let (shown, width) = match console.width() {
        None => (stages.len(), None),
        Some(width) => {
            let left = width.saturating_sub(first + GAP);
            let fitting = (left / (NARROWEST + GAP)).clamp(1, stages.len());
            (fitting, Some((left / fitting).saturating_sub(GAP).max(NARROWEST)))
        }
    };
    let mut heads = vec![""];
    heads.extend(stages[..shown].iter().map(|&stage| ledger.stage(stage).name.as_str()));
    let mut table = Table::new(&heads, None);
    let mut owner = String::new();
    let elsewhere = |row: &&Row<'_>| row.cells[..shown].iter().all(Option::is_none);
    for row in rows.iter().filter(|row| !elsewhere(row)) {
        let of = row.address.owner.as_ref().map(ToString::to_string).unwrap_or_default();
        if of != owner {
            table.row(vec![(of.clone(), Tone::Plain)]);
            owner = of;
        }
        let mut cells = vec![(format!("{INDENT}{}", entry(row)), Tone::Plain)];
        cells.extend(row.cells[..shown].iter().map(|cell| short(cell, width)));
        table.row(cells);
    }
    for line in table.lines() {
        console.line(line);
    }
    console.line("");
    console.line("d default, g from a group, f followed, = made from other fields; … goes on");
    if shown < stages.len() {
        let left: Vec<&str> =
            stages[shown..].iter().map(|&stage| ledger.stage(stage).name.as_str()).collect();
        let text = format!("{}: {}", counted(left.len(), "stage"), left.join(", "));
        console.line(format!("{} for want of room: {text}", style::doubtful("left out")));
    }
}

/// The entry and field of a row.
fn entry(row: &Row<'_>) -> String {
    let address = row.address.to_string();
    address.split_once('/').map_or(address.clone(), |(_, entry)| entry.to_owned())
}

/// A cell: the value, cut to the width, and the mark of its layer.
fn short(cell: &Cell<'_>, width: Option<usize>) -> (String, Tone) {
    let (text, mark, tone) = parts(cell);
    let room = width.map(|width| width.saturating_sub(if mark.is_empty() { 0 } else { 2 }));
    let text = match room {
        Some(room) if text.width() > room => cut(&text, room),
        _ => text,
    };
    (if mark.is_empty() { text } else { format!("{text} {mark}") }, tone)
}

fn cut(text: &str, room: usize) -> String {
    let mut kept = String::new();
    let mut used = 0;
    for c in text.chars() {
        used += c.width().unwrap_or(0);
        if used >= room {
            break;
        }
        kept.push(c);
    }
    kept.push(CUT);
    kept
}

/// The text of a cell, the mark of its layer, and its tone.
fn parts(cell: &Cell<'_>) -> (String, &'static str, Tone) {
    let Some(outcome) = cell else { return ("-".to_owned(), "", Tone::Quiet) };
    match outcome {
        Outcome::Value(effective) => {
            let mark = match effective.origin.layer {
                Layer::Default => "d",
                Layer::Group(_) => "g",
                Layer::Follow(_) => "f",
                Layer::Derived => "=",
                Layer::Stage(_) | Layer::Run => "",
            };
            (values::effective(effective, false), mark, Tone::Plain)
        }
        Outcome::Absent(_) => ("absent".to_owned(), "", Tone::Quiet),
        Outcome::Unset => (String::new(), "", Tone::Quiet),
        Outcome::Missing(..) => ("missing".to_owned(), "", Tone::Bad),
        Outcome::Broken(problems) => {
            (problems.first().map_or("wrong", |problem| problem.code.name()).to_owned(), "", Tone::Bad)
        }
    }
}
