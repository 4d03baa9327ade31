//! `capture` for people.

use std::path::Path;

use crate::output::console::Console;
use crate::output::table::{Table, Tone};
use crate::output::values;
use cledger_work::capture::Counted;
use cledger_work::shown::counted;

pub(crate) fn print(console: &mut Console, outlets: &[Counted], path: &Path) {
    let mut table = Table::new(&["outlet", "kind", "there", "not there", ""], console.width());
    for outlet in outlets {
        let not_known = match &outlet.not_known[..] {
            [] => String::new(),
            [first, ..] => {
                format!("{} not known: {}", counted(outlet.not_known.len(), "unit"), values::escape(first))
            }
        };
        table.row(vec![
            (outlet.outlet.clone(), Tone::Plain),
            (outlet.kind.clone(), Tone::Plain),
            (outlet.there.to_string(), Tone::Plain),
            (outlet.not_there.to_string(), Tone::Plain),
            (not_known, Tone::Bad),
        ]);
    }
    table.lines().iter().for_each(|line| console.line(line));
    console.line(format!("Captured to {}.", path.display()));
}
