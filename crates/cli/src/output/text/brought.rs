//! What came of bringing units to outlets, for people.

use cledger_work::bringing::brought::Brought;

use crate::output::console::Console;
use crate::output::style;
use crate::output::style::Tone;
use crate::output::table::Table;

/// What came of bringing units to outlets.
pub(crate) fn print(console: &mut Console, brought: &[Brought]) {
    let mut table = Table::new(&["unit", "outlet", "kind", "", ""], console.width());
    for it in brought {
        let tone = if it.is_well() { Tone::Plain } else { Tone::Bad };
        let reason = it.reason().unwrap_or_default();
        table.row(vec![
            (format!("{}@{}", it.owner, it.stage), Tone::Plain),
            (it.outlet.clone(), Tone::Plain),
            (it.kind.to_owned(), Tone::Plain),
            (it.word().to_owned(), tone),
            (reason.to_owned(), Tone::Quiet),
        ]);
    }
    table.keep_whole(0);
    table.keep_whole(3);
    table.lines().iter().for_each(|line| console.line(line));
    if !brought.iter().all(Brought::is_well) {
        console.line(format!("{}: not all of it went well.", style::bad("trouble")));
    }
}
