//! `search` for people: a line for each thing that was found.

use cledger_core::model::Ledger;
use cledger_core::resolve::{Effective, FieldId};
use cledger_core::search::Found;

use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{origin, values};
use cledger_work::shown::{counted, found as found_words};

pub(crate) fn settings(console: &mut Console, ledger: &Ledger, found: &[Found<'_>]) {
    let mut table = Table::new(&["address", "says", "in", "why"], console.width());
    for one in found {
        let why = one.setting.and_then(|setting| setting.note.as_ref()).and_then(|note| note.why.clone());
        let cells =
            [one.address(ledger).to_string(), found_words(one), place(ledger, one), why.unwrap_or_default()];
        table.row(cells.into_iter().map(|text| (text, Tone::Plain)).collect());
    }
    print(console, &mut table, found.len(), "setting");
}

/// The file and line.
pub(crate) fn place(ledger: &Ledger, found: &Found<'_>) -> String {
    let at = found.place.map(|place| ledger.files.locate(place));
    at.map(|at| format!("{}:{}", at.file, at.line)).unwrap_or_default()
}

pub(crate) fn effective(console: &mut Console, ledger: &Ledger, found: &[(FieldId, Effective<'_>)]) {
    let mut table = Table::new(&["address", "value", "from"], console.width());
    for (field, effective) in found {
        let from = origin::line(ledger, effective.origin);
        let cells = [ledger.address(*field).to_string(), values::effective(effective, false), from];
        table.row(cells.into_iter().map(|text| (text, Tone::Plain)).collect());
    }
    print(console, &mut table, found.len(), "effective value");
}

fn print(console: &mut Console, table: &mut Table, count: usize, noun: &str) {
    if count > 0 {
        table.keep_whole(0);
        for line in table.lines() {
            console.line(line);
        }
        console.line("");
    }
    console.line(format!("{}.", counted(count, noun)));
}
