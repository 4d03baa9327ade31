//! `waive` for programs.

use cledger_work::waive::{Unwaived, Waived};
use serde::Serialize;

use super::FORMAT;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'w> {
    format: u32,
    code: &'w str,
    address: &'w str,
    until: &'w str,
    findings: usize,
    /// Whether it is done.
    written: bool,
}

pub(crate) fn document(waived: &Waived) -> Document<'_> {
    let Waived { code, address, until, count, written } = waived;
    Document { format: FORMAT, code, address, until, findings: *count, written: *written }
}

#[derive(Debug, Serialize)]
pub(crate) struct TakenOut<'w> {
    format: u32,
    code: &'w str,
    address: &'w str,
    removed: bool,
    findings: usize,
    /// Whether it is done.
    written: bool,
}

pub(crate) fn removed(unwaived: &Unwaived) -> TakenOut<'_> {
    let Unwaived { code, address, count, written } = unwaived;
    TakenOut { format: FORMAT, code, address, removed: true, findings: *count, written: *written }
}
