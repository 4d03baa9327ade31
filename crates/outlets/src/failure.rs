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
}

impl Failure {
    pub(crate) fn new(answer: Answer, detail: impl Into<String>) -> Self {
        Self { answer, detail: detail.into() }
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
