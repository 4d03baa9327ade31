//! Questions of the threads beside to whoever looks, and what they tell.

use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};

use cledger_core::name::Name;
use cledger_store::{AskPassphrase, SecretString};
use zeroize::Zeroizing;

use super::News;
use crate::asking::{Asking, Nobody, Progress, Telling, countersign_asked};
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
    /// A question, and where its answer comes.
    pub fn new(what: &str, hidden: bool, twice: bool) -> (Self, Receiver<Answer>) {
        let (answer, answers) = channel();
        (Self { what: what.to_owned(), hidden, twice, answer }, answers)
    }

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
    pub(super) fn ask(&self, what: &str, hidden: bool, twice: bool) -> Answer {
        let (question, answers) = Question::new(what, hidden, twice);
        self.0.send(News::Question(question)).ok()?;
        answers.recv().ok()?
    }
}

impl Asking for Aside {
    fn countersigns(&self, stage: &Name, does: &str) -> Result<bool, Trouble> {
        let what = countersign_asked(stage, does);
        Ok(self.ask(&what, false, false).is_some_and(|answer| answer.trim() == stage.as_str()))
    }

    fn secret(&self, what: &str) -> Result<Answer, Trouble> {
        Ok(self.ask(what, true, true))
    }

    fn value(&self, what: &str) -> Result<Answer, Trouble> {
        Ok(self.ask(what, false, false).filter(|answer| !answer.is_empty()))
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
    Arc::new(move |prompt: &str| {
        if let Some(given) = &given {
            return Some(given.clone());
        }
        let typed = aside.ask(prompt, true, false)?;
        Some(SecretString::from(typed.as_str()))
    })
}
