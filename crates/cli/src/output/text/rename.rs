//! `rename` and `share` for people: the files that change.

use super::check::counted;
use crate::output::console::Console;
use crate::output::style;

/// Prints what changes; `done` is the word for what was done.
pub(crate) fn print(
    console: &mut Console,
    done: &str,
    from: &str,
    to: &str,
    files: &[(String, &'static str)],
    written: bool,
) {
    for (path, word) in files {
        console.line(format!("{word:<7}  {path}"));
    }
    console.line("");
    let count = counted(files.len(), "file");
    console.line("No effective value changes.");
    if written {
        console.line(format!("{}: {from} is {to} now, in {count}.", style::good(done)));
    } else {
        let text = format!("{from} would become {to} in {count}; --write does it.");
        console.line(format!("{}: {text}", style::doubtful("nothing written")));
    }
}
