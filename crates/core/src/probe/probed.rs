//! What a probe came to.

use crate::model::Answer;

/// What a probe came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Probed {
    /// What came back.
    pub answer: Answer,
    /// More of it in words; never a secret.
    pub detail: String,
    /// How many days the certificate is still good for, if one was seen.
    pub days_left: Option<i64>,
    /// The status of a page, if one came.
    pub status: Option<u16>,
    /// Whether the page holds the text that is wanted, where one is.
    pub has_text: Option<bool>,
    /// Whether a proxy on the way said so, and not the service.
    pub by_proxy: bool,
}

impl Probed {
    /// An answer without a page.
    pub fn new(answer: Answer, detail: impl Into<String>) -> Self {
        let detail = detail.into();
        Self { answer, detail, days_left: None, status: None, has_text: None, by_proxy: false }
    }
}
