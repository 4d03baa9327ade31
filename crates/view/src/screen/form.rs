//! A change, as it is typed: where, what, and why.

use cledger_work::browse::{Change, Detail, Say};
use crossterm::event::{Event, KeyCode, KeyEvent};
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler as _;

/// A part of the form.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Part {
    /// Where it is written.
    Address,
    /// What kind of thing it says.
    Says,
    /// Its value.
    Value,
    /// The reason.
    Why,
}

const PARTS: [Part; 4] = [Part::Address, Part::Says, Part::Value, Part::Why];

/// What a setting can say, in words.
pub(crate) const SAYS: [&str; 3] =
    ["a value", "that there is none, on purpose", "nothing: the setting is taken out"];

/// What somebody types.
#[derive(Debug)]
pub(crate) struct Form {
    pub(crate) address: Input,
    /// Which of the things that it can say.
    pub(crate) says: usize,
    pub(crate) value: Input,
    pub(crate) why: Input,
    pub(crate) part: Part,
    /// Whether its value is asked for where nobody can see it.
    pub(crate) secret: bool,
    /// Where it is written now.
    pub(crate) from: Option<String>,
    /// Why it could not be tried.
    pub(crate) trouble: Option<String>,
}

/// What a key does beside typing.
pub(super) enum Does {
    /// Nothing.
    Nothing,
    /// The form is left.
    Leave,
    /// What is typed is tried.
    Try(Change),
}

impl Form {
    /// A form for a field, with the text that is written for it now.
    pub(super) fn new(detail: &Detail) -> Self {
        let secret = detail.secret;
        Self {
            address: Input::new(detail.address.clone()),
            says: 0,
            value: Input::new(detail.written.clone().unwrap_or_default()),
            why: Input::default(),
            part: if secret { Part::Says } else { Part::Value },
            secret,
            from: detail.from.clone(),
            trouble: None,
        }
    }

    /// Whether a part is there: a value is typed only where one is said that anybody may see.
    pub(crate) fn has(&self, part: Part) -> bool {
        part != Part::Value || (self.says == 0 && !self.secret)
    }

    pub(super) fn key(&mut self, key: KeyEvent) -> Does {
        match key.code {
            KeyCode::Esc => return Does::Leave,
            KeyCode::Enter => {
                self.trouble = None;
                return Does::Try(self.change());
            }
            KeyCode::Tab | KeyCode::Down => self.go(1),
            KeyCode::BackTab | KeyCode::Up => self.go(PARTS.len() - 1),
            KeyCode::Left if self.part == Part::Says => self.says = (self.says + SAYS.len() - 1) % SAYS.len(),
            KeyCode::Right | KeyCode::Char(' ') if self.part == Part::Says => {
                self.says = (self.says + 1) % SAYS.len();
            }
            _ => {
                let input = match self.part {
                    Part::Address => &mut self.address,
                    Part::Value => &mut self.value,
                    Part::Why => &mut self.why,
                    Part::Says => return Does::Nothing,
                };
                input.handle_event(&Event::Key(key));
            }
        }
        Does::Nothing
    }

    /// Goes on by so many parts, to one that is there.
    fn go(&mut self, by: usize) {
        let at = PARTS.iter().position(|part| *part == self.part).unwrap_or_default();
        let on = |steps: usize| PARTS[(at + by * steps) % PARTS.len()];
        self.part = (1..=PARTS.len()).map(on).find(|part| self.has(*part)).unwrap_or(self.part);
    }

    fn change(&self) -> Change {
        let say = match self.says {
            0 if self.secret => Say::Secret,
            0 => Say::Text(self.value.value().to_owned()),
            1 => Say::Absent,
            _ => Say::Nothing,
        };
        let why = self.why.value().trim();
        Change {
            address: self.address.value().trim().to_owned(),
            say,
            why: (!why.is_empty()).then(|| why.to_owned()),
        }
    }
}
