//! Questions of the threads beside to whoever looks, and what they tell.

use std::sync::Arc;
use std::sync::mpsc::{Sender, channel};

use cledger_core::name::Name;
use cledger_store::{AskPassphrase, SecretString};
use zeroize::Zeroizing;

use super::News;
use crate::asking::{Asking, Nobody, Progress, Telling};
use crate::trouble::Trouble;

/// What a person answers; `None` for no answer.
pub type Answer = Option<Zeroizing<String>>;

/// A question that only a person can answer.
#[derive(Debug)]
pub struct Question {
    /// What is asked for, in words.
    pub what: String,
    /// Whether nobody may see what is typed.
    pub hidden: bool,
    /// Whether it is typed twice.
    pub twice: bool,
    answer: Sender<Answer>,
}

impl Question {
    /// Answers it, so that whoever asked goes on.
    pub fn answer(self, answer: Answer) {
        // Whoever asked may be gone.
        let _ = self.answer.send(answer);
    }
}

/// Whoever looks, as threads beside ask and tell.
#[derive(Debug, Clone)]
pub(super) struct Aside(pub(super) Sender<News>);

impl Aside {
    /// Asks, and waits for the answer; none comes once nobody looks any more.
    pub(super) fn ask(&self, what: String, hidden: bool, twice: bool) -> Answer {
        let (answer, answers) = channel();
        self.0.send(News::Question(Question { what, hidden, twice, answer })).ok()?;
        answers.recv().ok()?
    }
}

impl Asking for Aside {
    fn countersigns(&self, stage: &Name, does: &str) -> Result<bool, Trouble> {
        let does = format!("{}{}", does[..1].to_uppercase(), &does[1..]);
        let what = format!("{does} {stage}, a production stage. Type its name to go on");
        Ok(self.ask(what, false, false).is_some_and(|answer| answer.trim() == stage.as_str()))
    }

    fn secret(&self, what: &str) -> Result<Answer, Trouble> {
        Ok(self.ask(what.to_owned(), true, true))
    }

    fn value(&self, what: &str) -> Result<Answer, Trouble> {
        Ok(self.ask(what.to_owned(), false, false).filter(|answer| !answer.is_empty()))
    }

    fn is_there(&self) -> bool {
        true
    }
}

impl Telling for Aside {
    fn notice(&self, text: &str) {
        let _ = self.0.send(News::Notice(text.to_owned()));
    }

    fn detail(&self, _: &str) {}

    fn begins(&self, _: usize, _: &'static str) -> Box<dyn Progress> {
        Box::new(Nobody)
    }
}

/// Gives the passphrase of an identity: the one that is given, else the one that is typed.
pub(super) fn passphrase_asked(aside: Aside, given: Option<SecretString>) -> AskPassphrase {
    // Whoever can be asked by several threads is asked by one after the other.
    let aside = std::sync::Mutex::new(aside);
    Arc::new(move |prompt: &str| {
        if let Some(given) = &given {
            return Some(given.clone());
        }
        let aside = aside.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let typed = aside.ask(prompt.to_owned(), true, false)?;
        Some(SecretString::from(typed.as_str()))
    })
}
