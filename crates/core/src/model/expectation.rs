//! What a unit's contract expects of a service that it declares: what is to come back when it is probed.

use super::{SomeStages, StageId, StageText};
use crate::name::Name;
use crate::source::Place;

/// What comes back of a service that is probed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Answer {
    /// It answers, and lets the login in.
    Answers,
    /// Its name leads nowhere.
    NoSuchHost,
    /// Nothing listens at the port.
    Refused,
    /// Nothing came back in time.
    NoAnswer,
    /// There is no way there from here.
    NoWay,
    /// Its certificate is not accepted.
    Certificate,
    /// The login is not accepted.
    AccessDenied,
    /// The database is not there.
    NoSuchDatabase,
    /// Something else answers, or it answers in a way that is not meant.
    Unexpected,
}

impl Answer {
    /// Those that a contract can expect, as they are written there. The others say more of the way there than of the
    /// service.
    const EXPECTED: [(Self, &'static str); 4] = [
        (Self::Answers, "answers"),
        (Self::Refused, "refused"),
        (Self::NoAnswer, "no-answer"),
        (Self::AccessDenied, "access-denied"),
    ];

    /// The words for it.
    pub fn words(self) -> &'static str {
        match self {
            Answer::Answers => "answers",
            Answer::NoSuchHost => "no such host",
            Answer::Refused => "refused",
            Answer::NoAnswer => "no answer",
            Answer::NoWay => "no way there",
            Answer::Certificate => "certificate",
            Answer::AccessDenied => "access denied",
            Answer::NoSuchDatabase => "no such database",
            Answer::Unexpected => "unexpected",
        }
    }
}

/// One of the things that may come back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Expected {
    /// This answer.
    Answer(Answer),
    /// A page with this status (RFC 9110), whatever that means.
    Status(u16),
}

/// A text that says nothing that can be expected.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("nothing answers `{0}`")]
pub struct NotExpected(pub String);

impl Expected {
    /// Reads `answers`, `refused` or another answer, or a status such as `404`.
    pub fn parse(text: &str) -> Result<Self, NotExpected> {
        if let Some((answer, _)) = Answer::EXPECTED.iter().find(|(_, word)| *word == text) {
            return Ok(Self::Answer(*answer));
        }
        let status = text.parse().ok().filter(|status| (100..600).contains(status) && text.len() == 3);
        status.map(Self::Status).ok_or_else(|| NotExpected(text.to_owned()))
    }

    /// All words that can be expected, but for statuses.
    pub fn words() -> impl Iterator<Item = &'static str> {
        Answer::EXPECTED.iter().map(|(_, word)| *word)
    }

    /// As it is written.
    pub fn written(self) -> String {
        match self {
            Self::Answer(answer) => answer.words().replace(' ', "-"),
            Self::Status(status) => status.to_string(),
        }
    }

    /// As people read it.
    pub fn told(self) -> String {
        match self {
            Self::Answer(answer) => answer.words().to_owned(),
            Self::Status(status) => format!("status {status}"),
        }
    }
}

/// What is expected of one connection or endpoint of a unit (`[[probe]]`).
#[derive(Debug, Clone)]
pub struct Expectation {
    /// How it is called, for people.
    pub name: Name,
    /// The connection or endpoint, as the unit sees it.
    pub entry: Name,
    /// A page below the address of an endpoint, in place of that.
    pub path: Option<StageText>,
    /// The stages where that is so; all if nothing is said.
    pub stages: Option<SomeStages>,
    /// What may come back: one of these.
    pub expect: Vec<Expected>,
    /// What the page holds.
    pub text: Option<String>,
    /// Whether the entry's login is shown.
    pub login: bool,
    /// Where it stands in the contract.
    pub place: Place,
}

impl Expectation {
    /// Whether it is about the entry as it is, and not about something else that is found the same way.
    pub fn is_of_entry(&self) -> bool {
        self.path.is_none() && self.login
    }

    /// Whether only a page that is asked for over HTTP can meet it.
    pub fn is_of_page(&self) -> bool {
        let is_status = |expected: &Expected| matches!(expected, Expected::Status(_));
        self.path.is_some() || self.text.is_some() || !self.login || self.expect.iter().any(is_status)
    }

    /// Whether it is so in a stage.
    pub fn is_in(&self, stage: StageId) -> bool {
        self.stages.as_ref().is_none_or(|stages| stages.is_in(stage))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_and_statuses_can_be_expected_and_nothing_else() {
        for word in Expected::words() {
            assert_eq!(Expected::parse(word).unwrap().written(), word);
        }
        assert_eq!(Expected::Status(404).written(), "404");
        assert_eq!(Expected::parse("404"), Ok(Expected::Status(404)));
        for text in ["", "99", "600", "0404", "+404", "unexpected", "Refused", "no-such-host"] {
            assert_eq!(Expected::parse(text), Err(NotExpected(text.to_owned())), "{text}");
        }
    }
}
