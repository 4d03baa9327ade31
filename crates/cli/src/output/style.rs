//! Colours, each only ever behind a word that says the same.

use anstyle::{AnsiColor, Style};

fn paint(color: AnsiColor, text: &str) -> String {
    let style = Style::new().fg_color(Some(color.into()));
    format!("{style}{text}{style:#}")
}

/// Something that must be mended.
pub(crate) fn bad(text: &str) -> String {
    paint(AnsiColor::Red, text)
}

/// Something that somebody should look at.
pub(crate) fn doubtful(text: &str) -> String {
    paint(AnsiColor::Yellow, text)
}

/// Something that is as it should be.
pub(crate) fn good(text: &str) -> String {
    paint(AnsiColor::Green, text)
}

/// A heading.
pub(crate) fn heading(text: &str) -> String {
    let style = Style::new().bold();
    format!("{style}{text}{style:#}")
}
