//! `rename` and `share` for people: the files that change.

use cledger_work::shown::counted;
use cledger_work::touched::TouchedFile;

use crate::output::console::Console;
use crate::output::style;

/// Prints what changes; `done` is the word for what was done.
pub(crate) fn print(
    console: &mut Console,
    done: &str,
    (from, to): (&str, &str),
    files: &[TouchedFile],
    written: bool,
) {
    touched(console, files);
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

/// The files that a change touches.
pub(crate) fn touched(console: &mut Console, files: &[TouchedFile]) {
    for TouchedFile { path, becomes } in files {
        console.line(format!("{:<7}  {path}", becomes.word()));
    }
}
