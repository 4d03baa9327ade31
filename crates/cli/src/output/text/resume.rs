//! `resume` for people: the files of an open change.

use cledger_store::{Interrupted, Since};

use crate::output::console::Console;
use crate::output::style;
use crate::output::style::Tone;
use crate::output::table::Table;
use cledger_work::resume::Resumed;

pub(crate) fn print(console: &mut Console, resumed: Option<&Resumed>) {
    let Some(resumed) = resumed else {
        console.line("No change of this ledger is open.");
        return;
    };
    let mut table = Table::new(&["file", ""], console.width());
    for file in &resumed.change.files {
        let tone = if file.since == Since::Edited { Tone::Doubtful } else { Tone::Quiet };
        table.row(vec![(file.path.clone(), Tone::Plain), (resumed.word(file.since).to_owned(), tone)]);
    }
    table.lines().iter().for_each(|line| console.line(line));
    console.line("");
    match (resumed.how, resumed.written) {
        (None, _) => {
            console.wrapped(
                "A change of these files was interrupted. --finish makes the rest of it, --put-back takes back \
                 what was made; with --write it is done. What was edited since stays as it is.",
                "",
            );
        }
        (Some(_), false) => console.line(format!("{}: --write does it.", style::doubtful("nothing written"))),
        (Some(Interrupted::PutBack), true) => console.line(format!("{}.", style::good("put back"))),
        (Some(_), true) => console.line(format!("{}.", style::good("finished"))),
    }
}
