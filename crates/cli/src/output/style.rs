//! What is said by colour, each only ever beside a word or mark that says the same.

use annotate_snippets::Renderer;
use anstyle::{Ansi256Color, AnsiColor, Style};
use comfy_table::Color;

use super::clean::escape;

/// What a text says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Tone {
    /// Nothing in particular.
    Plain,
    /// Something that must be mended.
    Bad,
    /// Something that somebody should look at.
    Doubtful,
    /// Something that is as it should be.
    Good,
    /// Something beside the point.
    Quiet,
}

impl Tone {
    /// Its colour, by its number among 256. The yellow is a darker one than terminals have as theirs, which is not
    /// legible on white.
    fn number(self) -> Option<u8> {
        match self {
            Tone::Plain => None,
            Tone::Bad => Some(1),
            Tone::Doubtful => Some(136),
            Tone::Good => Some(2),
            Tone::Quiet => Some(8),
        }
    }

    /// The same for tables.
    pub(super) fn color(self) -> Option<Color> {
        self.number().map(Color::AnsiValue)
    }

    fn style(self) -> Style {
        Style::new().fg_color(self.number().map(|number| Ansi256Color(number).into()))
    }
}

/// The styles of errors and warnings that are shown with their line.
pub(crate) fn diagnostics() -> Renderer {
    let bold = |tone: Tone| tone.style().bold();
    let frame = Style::new().fg_color(Some(AnsiColor::Blue.into())).bold();
    Renderer::styled().error(bold(Tone::Bad)).warning(bold(Tone::Doubtful)).line_num(frame)
}

/// A text in the colour of what it says.
pub(crate) fn toned(tone: Tone, text: &str) -> String {
    if text.is_empty() || tone == Tone::Plain {
        return escape(text);
    }
    let style = tone.style();
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
