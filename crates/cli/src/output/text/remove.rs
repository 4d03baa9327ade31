//! `remove` for people: the files that change, and the values that go.

use cledger_store::Mention;
use cledger_work::remove::Removed;
use cledger_work::shown::counted;

use super::rename::touched;
use crate::output::console::Console;
use crate::output::{style, values};

pub(crate) fn print(console: &mut Console, removed: &Removed) {
    touched(console, &removed.files);
    let names = removed.what.join(", ");
    if !removed.mentions.is_empty() {
        let does = if removed.with_mentions {
            "mentioned in, and goes there, too"
        } else {
            "mentioned in, and stays there"
        };
        console.line(format!("\n{}:", style::heading(does)));
        for Mention { file, line, text } in &removed.mentions {
            console.wrapped(&format!("  {file}:{line}  {}", values::escape(text)), "      ");
        }
    }
    if !removed.delivered.is_empty() {
        console.line(format!("\n{}: {}", style::doubtful("still delivered"), removed.delivered.join(", ")));
    }
    console.line("");
    let values = counted(removed.effects.len(), "effective value");
    if removed.written {
        console.line(format!("{}: {names}, with {values}.", style::good("removed")));
    } else {
        let text = format!("{names} would go, with {values}; --write does it.");
        console.line(format!("{}: {text}", style::doubtful("nothing written")));
    }
}
