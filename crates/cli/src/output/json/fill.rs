//! `fill` for programs.

use cledger_work::fill::{Filled, Lacking};
use serde::Serialize;

use super::change;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'f> {
    #[serde(flatten)]
    changed: change::Document<'f>,
    lacking: Vec<LackingDocument<'f>>,
    /// The form that was written, if one was.
    form: Option<String>,
}

#[derive(Debug, Serialize)]
pub(crate) struct LackingDocument<'f> {
    address: &'f str,
    asks: &'f str,
    about: Option<&'f str>,
    secret: bool,
    elsewhere: Option<ElsewhereDocument<'f>>,
}

#[derive(Debug, Serialize)]
struct ElsewhereDocument<'f> {
    stage: &'f str,
    value: &'f str,
}

pub(crate) fn document(filled: &Filled) -> Document<'_> {
    Document {
        changed: change::document(&filled.changed),
        lacking: filled.lacking.iter().map(lacking).collect(),
        form: filled.form.as_ref().map(|(path, _)| path.display().to_string()),
    }
}

pub(crate) fn lacking(one: &Lacking) -> LackingDocument<'_> {
    LackingDocument {
        address: &one.address,
        asks: &one.asks,
        about: one.about.as_deref(),
        secret: one.secret,
        elsewhere: one.elsewhere.as_ref().map(|(stage, value)| ElsewhereDocument { stage, value }),
    }
}
