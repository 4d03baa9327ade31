//! What is said by colour, each only ever beside a word or mark that says the same.

use annotate_snippets::Renderer;
use anstyle::{Ansi256Color, AnsiColor, Style};
use comfy_table::Color;

pub(crate) use cledger_work::shown::Tone;

use super::clean::escape;

/// The same for tables.
pub(super) fn color(tone: Tone) -> Option<Color> {
    tone.number().map(Color::AnsiValue)
}

fn style(tone: Tone) -> Style {
    Style::new().fg_color(tone.number().map(|number| Ansi256Color(number).into()))
}

/// The styles of errors and warnings that are shown with their line.
pub(crate) fn diagnostics() -> Renderer {
    let bold = |tone: Tone| style(tone).bold();
    let frame = Style::new().fg_color(Some(AnsiColor::Blue.into())).bold();
    Renderer::styled().error(bold(Tone::Bad)).warning(bold(Tone::Doubtful)).line_num(frame)
}

/// A text in the colour of what it says.
pub(crate) fn toned(tone: Tone, text: &str) -> String {
    if text.is_empty() || tone == Tone::Plain {
        return escape(text);
    }
    let style = style(tone);
    format!("{style}{}{style:#}", escape(text))
}

/// Something that must be mended.
pub(crate) fn bad(text: &str) -> String {
    toned(Tone::Bad, text)
}

/// Something that somebody should look at.
pub(crate) fn doubtful(text: &str) -> String {
    toned(Tone::Doubtful, text)
}

/// Something that is as it should be.
pub(crate) fn good(text: &str) -> String {
    toned(Tone::Good, text)
}

/// A heading.
pub(crate) fn heading(text: &str) -> String {
    let style = Style::new().bold();
    format!("{style}{}{style:#}", escape(text))
}
