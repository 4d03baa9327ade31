//! `rename` and `share` for people: the files that change, and what else does.

use cledger_work::rename::{Renamed, RenderedName};
use cledger_work::shown::counted;
use cledger_work::touched::TouchedFile;

use super::change::effects;
use crate::output::console::Console;
use crate::output::style;
use crate::output::style::Tone;
use crate::output::table::Table;

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
    console.line("No effective value changes.");
    summary(console, done, (from, to), files.len(), written);
}

/// What has another name.
pub(crate) fn renamed(console: &mut Console, renamed: &Renamed) {
    touched(console, &renamed.files);
    console.line("");
    rendered(console, &renamed.rendered, renamed.written);
    effects(console, &renamed.effects);
    summary(console, "renamed", (&renamed.from, &renamed.to), renamed.files.len(), renamed.written);
}

/// The names of rendered files, and in them, that change.
pub(crate) fn rendered(console: &mut Console, names: &[RenderedName], written: bool) {
    if names.is_empty() {
        return;
    }
    let mut table = Table::new(&["rendered for", "before", "after"], console.width());
    for RenderedName { of, before, after } in names {
        table.row([of, before, after].map(|text| (text.clone(), Tone::Plain)).into());
    }
    table.keep_whole(0);
    table.lines().iter().for_each(|line| console.line(line));
    if !written {
        console.line("These names change with --outputs only.");
    }
    console.line("");
}

fn summary(console: &mut Console, done: &str, (from, to): (&str, &str), count: usize, written: bool) {
    let count = counted(count, "file");
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
