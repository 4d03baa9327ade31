//! `remove` for people: the files that change, and the values that go.

use cledger_work::remove::Removed;
use cledger_work::shown::counted;

use super::rename::touched;
use crate::output::console::Console;
use crate::output::style;

pub(crate) fn print(console: &mut Console, removed: &Removed) {
    touched(console, &removed.files);
    let names = removed.addresses.join(", ");
    console.line("");
    let values = counted(removed.effects.len(), "effective value");
    if removed.written {
        console.line(format!("{}: {names}, with {values}.", style::good("removed")));
    } else {
        let text = format!("{names} would go, with {values}; --write does it.");
        console.line(format!("{}: {text}", style::doubtful("nothing written")));
    }
}
