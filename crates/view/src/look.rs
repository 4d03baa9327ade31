//! How things look: colour only backs what words or marks say.

use cledger_work::shown::Tone;
use ratatui::style::{Color, Modifier, Style};

/// How things look.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Look {
    /// Whether there are colours.
    pub colors: bool,
}

impl Look {
    /// The style of a text with this tone.
    pub(crate) fn tone(self, tone: Tone) -> Style {
        match tone.number() {
            Some(number) if self.colors => Style::new().fg(Color::Indexed(number)),
            _ => Style::new(),
        }
    }

    /// A heading.
    pub(crate) fn heading() -> Style {
        Style::new().add_modifier(Modifier::BOLD)
    }

    /// What is looked at.
    pub(crate) fn chosen() -> Style {
        Style::new().add_modifier(Modifier::REVERSED)
    }
}
