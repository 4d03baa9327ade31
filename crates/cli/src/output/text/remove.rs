//! `remove` for people: the files that change, and the values that go.

use cledger_core::effects::Effect;

use super::check::counted;
use crate::output::console::Console;
use crate::output::style;

pub(crate) fn print(
    console: &mut Console,
    names: &str,
    files: &[(String, &'static str)],
    effects: &[Effect],
    written: bool,
) {
    for (path, word) in files {
        console.line(format!("{word:<7}  {path}"));
    }
    console.line("");
    let values = counted(effects.len(), "effective value");
    if written {
        console.line(format!("{}: {names}, with {values}.", style::good("removed")));
    } else {
        let text = format!("{names} would go, with {values}; --write does it.");
        console.line(format!("{}: {text}", style::doubtful("nothing written")));
    }
}
