//! Why something outside does not answer as it should.

use std::fmt;
use std::time::{Duration, Instant};

use cledger_core::probe::Answer;

/// Why something does not answer as it should.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Failure {
    /// What came back.
    pub answer: Answer,
    /// More of it in words; never a secret.
    pub detail: String,
    /// Whether a proxy on the way says so.
    pub by_proxy: bool,
}

impl Failure {
    pub(crate) fn new(answer: Answer, detail: impl Into<String>) -> Self {
        Self { answer, detail: detail.into(), by_proxy: false }
    }

    /// The same of a proxy on the way.
    pub(crate) fn of_proxy(answer: Answer, detail: impl fmt::Display) -> Self {
        Self { by_proxy: true, ..Self::new(answer, format!("the proxy: {detail}")) }
    }

    pub(crate) fn unexpected(detail: impl Into<String>) -> Self {
        Self::new(Answer::Unexpected, detail)
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.answer {
            Answer::Unexpected => f.write_str(&self.detail),
            _ => write!(f, "{}: {}", self.answer.words(), self.detail),
        }
    }
}

/// The moment at which one gives up.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Deadline(pub(crate) Instant);

impl Deadline {
    /// So long from now.
    pub(crate) fn within(limit: Duration) -> Self {
        Self(Instant::now() + limit)
    }

    /// What is left of the time; an answer where nothing is.
    pub(crate) fn left(self) -> Result<Duration, Failure> {
        let left = self.0.saturating_duration_since(Instant::now());
        if left.is_zero() { Err(Failure::new(Answer::NoAnswer, "within the time limit")) } else { Ok(left) }
    }
}

/// Why something was not brought.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotBrought {
    /// Somebody has changed what is there since it was looked at. Nothing is written.
    ChangedMeanwhile,
    /// It does not go, and nothing is written.
    Failed(String),
    /// It does not go, and only what is named here is written.
    InPart(String),
    /// No answer came: it may be there, or not.
    NotKnown(String),
}

impl From<Failure> for NotBrought {
    fn from(failure: Failure) -> Self {
        Self::Failed(failure.to_string())
    }
}

impl NotBrought {
    /// A request that was sent may have been carried out, unless the answer says otherwise: where nobody was
    /// reached, or the service says that the request is wrong (RFC 9110, 15.5).
    pub(crate) fn uncertain(failure: Failure) -> Self {
        match failure.answer {
            Answer::Refused | Answer::NoSuchHost | Answer::Certificate | Answer::AccessDenied => {
                failure.into()
            }
            _ if failure.detail.starts_with("status 4") => failure.into(),
            _ => Self::NotKnown(failure.to_string()),
        }
    }
}
