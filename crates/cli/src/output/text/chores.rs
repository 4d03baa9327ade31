//! `chores` for people.

use super::change::ONLY_SHOWN;
use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::time::day;
use crate::output::values;
use cledger_work::deliver::chores::{ChoresDone, OpenChore, OpenSince};

pub(crate) fn print(console: &mut Console, open: &[OpenChore]) {
    if open.is_empty() {
        console.line("No chore is open.");
        return;
    }
    let mut table = Table::new(&["of", "", "chore"], console.width());
    for one in open {
        let when = match &one.since {
            OpenSince::Ever => "before the first".to_owned(),
            OpenSince::Delivery(number) => format!("after {number}"),
            OpenSince::Time(time) => format!("since {}", day(time)),
        };
        table.row(vec![
            (format!("{}@{}", one.owner, one.stage), Tone::Plain),
            (when, Tone::Plain),
            (values::escape(&one.text), Tone::Plain),
        ]);
    }
    table.keep_whole(0);
    table.keep_whole(1);
    table.lines().iter().for_each(|line| console.line(line));
}

/// Chores that were done.
pub(crate) fn done(console: &mut Console, chores: &ChoresDone) {
    let does = if chores.written { "Done" } else { "Would be recorded as done" };
    for chore in &chores.done {
        console.line(format!("{does}, for {}@{}: {}", chore.owner, chore.stage, values::escape(&chore.text)));
    }
    if !chores.written {
        console.line(ONLY_SHOWN);
    }
}
