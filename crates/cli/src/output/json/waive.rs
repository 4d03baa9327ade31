//! `waive` for programs.

use serde::Serialize;

use super::FORMAT;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'w> {
    format: u32,
    code: &'w str,
    address: &'w str,
    until: &'w str,
    findings: usize,
}

pub(crate) fn document<'w>(code: &'w str, address: &'w str, until: &'w str, findings: usize) -> Document<'w> {
    Document { format: FORMAT, code, address, until, findings }
}
