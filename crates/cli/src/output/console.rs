//! Where output goes: results to standard output, notices and errors to standard error.

use std::io::{self, IsTerminal as _, Write as _};

use anstream::{AutoStream, ColorChoice};
use cledger_work::Trouble;
use serde::Serialize;

use super::clean::{Cleaned, clean, without_colors};
use super::fold::folded;
use super::{diagnostics, json};
use crate::globals::Globals;

/// The width that text is folded to where nothing says how wide the terminal is.
pub(crate) const USUAL_WIDTH: usize = 80;

/// How much of the result is kept in one piece, at least.
const PIECE: usize = 64 * 1024;

/// A result in pieces, so that a long one is not moved as it grows. A line may begin in one and end in the next.
#[derive(Default)]
struct Collected(Vec<String>);

impl Collected {
    fn add(&mut self, text: &str) {
        match self.0.last_mut() {
            Some(last) if last.capacity() - last.len() >= text.len() => last.push_str(text),
            _ => {
                let mut piece = String::with_capacity(PIECE.max(text.len() + 1));
                piece.push_str(text);
                self.0.push(piece);
            }
        }
    }

    /// Adds a text that was made by itself: a long one is a piece as it is.
    fn take(&mut self, text: String) {
        if text.len() < PIECE {
            self.add(&text);
        } else {
            self.0.push(text);
        }
    }
}

/// Collects a command's output, and writes notices at once.
pub(crate) struct Console {
    out: Collected,
    color: ColorChoice,
    /// That of the result, which may hold values that look like colours.
    color_of_result: ColorChoice,
    json: bool,
    quiet: bool,
    verbose: bool,
    width: Option<usize>,
}

impl Console {
    pub(crate) fn new(globals: &Globals) -> Self {
        let color = match globals.color {
            clap::ColorChoice::Auto => ColorChoice::Auto,
            clap::ColorChoice::Always => ColorChoice::Always,
            clap::ColorChoice::Never => ColorChoice::Never,
        };
        Self {
            out: Collected::default(),
            color,
            color_of_result: color,
            json: globals.json,
            quiet: globals.quiet,
            verbose: globals.verbose > 0,
            width: width(),
        }
    }

    /// Whether the result is wanted as a JSON document.
    pub(crate) fn is_json(&self) -> bool {
        self.json
    }

    /// The width that tables are folded to; `None` where they are not folded, since a program or a
    /// file gets them.
    pub(crate) fn width(&self) -> Option<usize> {
        self.width
    }

    /// Adds a line to the result. It may hold ANSI colours, which are dropped where none are wanted.
    pub(crate) fn line(&mut self, text: impl AsRef<str>) {
        self.out.add(&clean(text.as_ref()));
        self.out.add("\n");
    }

    /// Adds a line that is folded at the console's width, and goes on behind an indent.
    pub(crate) fn wrapped(&mut self, text: &str, indent: &str) {
        self.line(folded(text, self.width, indent));
    }

    /// Adds text of several lines to the result.
    pub(crate) fn raw(&mut self, text: &str) {
        self.out.add(&clean(text));
    }

    /// Adds text that was made elsewhere, and cleaned there.
    pub(crate) fn cleaned(&mut self, text: Cleaned) {
        self.out.0.push(text.into_string());
    }

    /// Adds a value to the result that a program gets as it is, control characters and all.
    pub(crate) fn exact(&mut self, text: &str) {
        if io::stdout().is_terminal() {
            self.line(text);
        } else {
            self.color_of_result = ColorChoice::AlwaysAnsi;
            self.out.add(text);
            self.out.add("\n");
        }
    }

    /// Adds a file's text to the result as it is.
    pub(crate) fn verbatim(&mut self, text: &str) {
        self.verbatim_parts(vec![text.to_owned()]);
    }

    /// The same for a text in parts that follow each other.
    pub(crate) fn verbatim_parts(&mut self, parts: Vec<String>) {
        if io::stdout().is_terminal() {
            for part in &parts {
                self.raw(part);
            }
        } else {
            self.color_of_result = ColorChoice::AlwaysAnsi;
            self.out.0.extend(parts);
        }
    }

    /// Adds a JSON document to the result.
    pub(crate) fn document(&mut self, document: &impl Serialize) {
        // Documents are made of texts, numbers and lists, which always serialise.
        let text = serde_json::to_string(document).unwrap_or_default();
        self.out.take(super::clean::json(text));
        self.out.add("\n");
    }

    /// Tells something that is not part of the result.
    pub(crate) fn notice(&self, text: &str) {
        if !self.quiet {
            let _ = writeln!(self.stderr(), "{}", clean(&folded(text, self.width, "")));
        }
    }

    /// Whether standard error has colours.
    pub(crate) fn color(&self) -> ColorChoice {
        self.color
    }

    /// Whether the result has colours on a terminal.
    pub(crate) fn has_colors(&self) -> bool {
        match self.color {
            ColorChoice::Auto => AutoStream::choice(&io::stdout()) != ColorChoice::Never,
            choice => choice != ColorChoice::Never,
        }
    }

    /// Whether notices are not wanted.
    pub(crate) fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Whether details are wanted.
    pub(crate) fn is_verbose(&self) -> bool {
        self.verbose
    }

    /// Tells why the command ends without doing its work. What it had to say is dropped.
    pub(crate) fn fail(&mut self, trouble: &Trouble) {
        self.out = Collected::default();
        if self.json {
            self.document(&json::error::document(trouble));
        }
        self.tell(trouble);
    }

    /// Tells what went wrong, beside the result.
    pub(crate) fn tell(&self, trouble: &Trouble) {
        let text = diagnostics::of_trouble(trouble, self.width);
        let _ = self.stderr().write_all(clean(&text).as_bytes());
    }

    /// Writes what was collected.
    pub(crate) fn flush(&mut self) -> io::Result<()> {
        let stdout = io::stdout().lock();
        let parts = std::mem::take(&mut self.out).0;
        let choice = match self.color_of_result {
            ColorChoice::Auto => AutoStream::choice(&stdout),
            choice => choice,
        };
        if choice == ColorChoice::Never {
            let mut stdout = io::BufWriter::with_capacity(PIECE, stdout);
            // There are none but our own.
            let mut texts = parts.iter().flat_map(|part| without_colors(part));
            texts.try_for_each(|text| stdout.write_all(text.as_bytes()))?;
            return stdout.flush();
        }
        let mut stdout = AutoStream::new(stdout, choice);
        parts.iter().try_for_each(|part| stdout.write_all(part.as_bytes()))?;
        stdout.flush()
    }

    fn stderr(&self) -> AutoStream<io::StderrLock<'static>> {
        AutoStream::new(io::stderr().lock(), self.color)
    }
}

/// `COLUMNS`, else the terminal's width; none in a pipe.
fn width() -> Option<usize> {
    let columns = std::env::var("COLUMNS").ok().and_then(|text| text.parse().ok());
    if columns.is_some() {
        return columns;
    }
    if !io::stdout().is_terminal() {
        return None;
    }
    Some(terminal_size::terminal_size().map_or(USUAL_WIDTH, |(width, _)| usize::from(width.0)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_result_of_many_pieces_is_whole_and_in_order() {
        let mut collected = Collected::default();
        let mut whole = String::new();
        for (at, length) in [3, PIECE - 4, 1, 0, 2, 2 * PIECE, 5, PIECE, PIECE + 1, 7].into_iter().enumerate()
        {
            let text = char::from(b'a' + u8::try_from(at).unwrap()).to_string().repeat(length);
            if at % 2 == 0 {
                collected.add(&text);
            } else {
                collected.take(text.clone());
            }
            whole += &text;
        }
        assert!(collected.0.len() > 3, "{}", collected.0.len());
        assert_eq!(collected.0.concat(), whole);
    }
}
