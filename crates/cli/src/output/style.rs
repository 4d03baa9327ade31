//! Colours, each only ever behind a word that says the same.

use annotate_snippets::Renderer;
use anstyle::{AnsiColor, Style};

use super::clean::escape;

fn paint(color: AnsiColor, text: &str) -> String {
    let style = Style::new().fg_color(Some(color.into()));
    format!("{style}{}{style:#}", escape(text))
}

/// The colour of what must be mended.
const BAD: AnsiColor = AnsiColor::Red;

/// The colour of what somebody should look at: unlike yellow it is legible on light grounds, too.
const DOUBTFUL: AnsiColor = AnsiColor::Magenta;

/// The styles of errors and warnings that are shown with their line.
pub(crate) fn diagnostics() -> Renderer {
    let bold = |color: AnsiColor| Style::new().fg_color(Some(color.into())).bold();
    let frame = bold(AnsiColor::Blue);
    Renderer::styled().error(bold(BAD)).warning(bold(DOUBTFUL)).line_num(frame)
}

/// Something that must be mended.
pub(crate) fn bad(text: &str) -> String {
    paint(BAD, text)
}

/// Something that somebody should look at.
pub(crate) fn doubtful(text: &str) -> String {
    paint(DOUBTFUL, text)
}

/// Something that is as it should be.
pub(crate) fn good(text: &str) -> String {
    paint(AnsiColor::Green, text)
}

/// A heading.
pub(crate) fn heading(text: &str) -> String {
    let style = Style::new().bold();
    format!("{style}{}{style:#}", escape(text))
}
