//! `impact` for people: what depends on a value, nearest first.

use cledger_core::address::Address;
use cledger_core::impact::Affected;
use cledger_core::model::Ledger;

use crate::output::console::Console;
use crate::output::style;
use crate::output::style::Tone;
use crate::output::table::Table;
use cledger_work::shown::counted;

pub(crate) fn print(console: &mut Console, ledger: &Ledger, address: &Address, affected: &[Affected]) {
    if affected.is_empty() {
        console.line(format!("Nothing depends on {address}."));
        return;
    }
    let mut table = Table::new(&["field", "because"], console.width());
    for one in affected {
        let field = ledger.address(one.field).to_string();
        let because = match one.through {
            Some(through) => format!("it refers to {}", ledger.address(through)),
            None if field == address.to_string() => "it is the value itself".to_owned(),
            None => "it gets its value from there".to_owned(),
        };
        table.row(vec![(field, Tone::Plain), (because, Tone::Quiet)]);
    }
    table.keep_whole(0);
    for line in table.lines() {
        console.line(line);
    }
    let depend = if affected.len() == 1 { "depends" } else { "depend" };
    let count = style::heading(&counted(affected.len(), "effective value"));
    console.line(format!("\n{count} {depend} on {address}."));
}
