//! `chores` for people.

use super::change::ONLY_SHOWN;
use crate::output::console::Console;
use crate::output::table::{Table, Tone};
use crate::output::values;
use cledger_work::deliver::chores::{ChoreDone, OpenChore};

pub(crate) fn print(console: &mut Console, open: &[OpenChore]) {
    if open.is_empty() {
        console.line("No chore is open.");
        return;
    }
    let mut table = Table::new(&["of", "", "chore"], console.width());
    for one in open {
        let when = match one.after {
            Some(number) => format!("after {number}"),
            None => "before the first".to_owned(),
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

/// A chore that was done.
pub(crate) fn done(console: &mut Console, chore: &ChoreDone) {
    let does = if chore.written { "Done" } else { "Would be recorded as done" };
    console.line(format!("{does}, for {}@{}: {}", chore.owner, chore.stage, chore.text));
    if !chore.written {
        console.line(ONLY_SHOWN);
    }
}
