//! An answer to a question, as it is typed. Where it is hidden, it is wiped as soon as it is given.

use std::fmt;

use cledger_work::browse::Question;
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use zeroize::Zeroizing;

/// Room enough for most secrets: text that moves leaves a copy behind.
const ROOM: usize = 1 << 12;

/// A question, and what is typed so far.
pub(crate) struct Asked {
    question: Question,
    typed: Zeroizing<String>,
    /// What was typed the first time, where it is typed twice.
    first: Option<Zeroizing<String>>,
    /// Whether the two were not the same.
    pub(crate) differed: bool,
}

/// Nothing of what is typed.
impl fmt::Debug for Asked {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Asked").field("question", &self.question).finish_non_exhaustive()
    }
}

impl Asked {
    pub(super) fn new(question: Question) -> Self {
        Self { question, typed: empty(), first: None, differed: false }
    }

    /// What is asked for.
    pub(crate) fn what(&self) -> String {
        match self.first {
            Some(_) => format!("{} once more", self.question.what),
            None => self.question.what.clone(),
        }
    }

    /// What may be shown of what is typed; `None` where nobody may see it.
    pub(crate) fn shown(&self) -> Option<&str> {
        (!self.question.hidden).then_some(self.typed.as_str())
    }

    /// Takes a key: the question is gone once it is answered.
    pub(super) fn key(mut self, key: KeyEvent) -> Option<Self> {
        match key.code {
            KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => {
                self.question.answer(None);
                return None;
            }
            KeyCode::Esc => {
                self.question.answer(None);
                return None;
            }
            KeyCode::Char('u') if key.modifiers.contains(KeyModifiers::CONTROL) => self.typed = empty(),
            KeyCode::Char(c) if !key.modifiers.contains(KeyModifiers::CONTROL) => self.typed.push(c),
            KeyCode::Backspace => {
                self.typed.pop();
            }
            KeyCode::Enter => return self.entered(),
            _ => {}
        }
        Some(self)
    }

    fn entered(mut self) -> Option<Self> {
        let typed = std::mem::replace(&mut self.typed, empty());
        match self.first.take() {
            None if self.question.twice => self.first = Some(typed),
            Some(first) if *first != *typed => self.differed = true,
            _ => {
                self.question.answer(Some(typed));
                return None;
            }
        }
        Some(self)
    }
}

fn empty() -> Zeroizing<String> {
    Zeroizing::new(String::with_capacity(ROOM))
}
