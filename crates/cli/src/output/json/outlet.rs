//! `outlet list` for programs.

use serde::Serialize;

use super::FORMAT;
use crate::commands::ListedOutlet;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'o> {
    format: u32,
    outlets: Vec<OutletDocument<'o>>,
}

#[derive(Debug, Serialize)]
struct OutletDocument<'o> {
    name: &'o str,
    kind: &'static str,
    stage: &'o str,
    units: usize,
    there: usize,
    answers: bool,
    reason: Option<&'o str>,
}

pub(crate) fn document(outlets: &[ListedOutlet]) -> Document<'_> {
    let of = outlets.iter().map(|it| OutletDocument {
        name: &it.name,
        kind: it.kind,
        stage: &it.stage,
        units: it.units,
        there: it.there,
        answers: it.trouble.is_none(),
        reason: it.trouble.as_deref(),
    });
    Document { format: FORMAT, outlets: of.collect() }
}
