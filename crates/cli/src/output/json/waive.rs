//! `waive` for programs.

use cledger_work::waive::Waived;
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

pub(crate) fn document(waived: &Waived) -> Document<'_> {
    let Waived { code, address, until, count } = waived;
    Document { format: FORMAT, code, address, until, findings: *count }
}
