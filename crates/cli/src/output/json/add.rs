//! `add` for programs.

use cledger_core::effects::Effect;
use serde::Serialize;

use super::FORMAT;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'a> {
    format: u32,
    added: &'a str,
    files: &'a [&'a str],
    missing: Vec<String>,
}

pub(crate) fn document<'a>(added: &'a str, files: &'a [&'a str], missing: &[&Effect]) -> Document<'a> {
    let missing = missing.iter().map(|effect| effect.address.to_string()).collect();
    Document { format: FORMAT, added, files, missing }
}
