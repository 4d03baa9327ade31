//! `probe` for programs.

use cledger_core::probe::Wanted;
use serde::Serialize;

use super::FORMAT;
use cledger_work::probe::ProbeReport;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'r> {
    format: u32,
    stage: &'r str,
    class: &'static str,
    undelivered: bool,
    services: Vec<ServiceDocument<'r>>,
    not_tried: Vec<NotTriedDocument<'r>>,
}

#[derive(Debug, Serialize)]
struct ServiceDocument<'r> {
    service: String,
    addresses: &'r [String],
    answer: &'static str,
    detail: &'r str,
    days_left: Option<i64>,
    status: Option<u16>,
    /// What the contract expects; `null` where it is only to answer.
    expected: Option<ExpectedDocument<'r>>,
    as_expected: bool,
}

#[derive(Debug, Serialize)]
struct ExpectedDocument<'r> {
    probe: &'r str,
    expect: Vec<String>,
    text: Option<&'r str>,
}

/// What a contract expects of a service.
fn expected(wanted: &Wanted) -> Option<ExpectedDocument<'_>> {
    let probe = wanted.by.as_ref()?.as_str();
    let expect = wanted.expect.iter().map(|expected| expected.written()).collect();
    Some(ExpectedDocument { probe, expect, text: wanted.text.as_deref() })
}

#[derive(Debug, Serialize)]
struct NotTriedDocument<'r> {
    address: &'r str,
    reason: &'r str,
}

pub(crate) fn document(report: &ProbeReport) -> Document<'_> {
    let services = report.probed.iter().map(|(target, probed)| ServiceDocument {
        service: target.shown(),
        addresses: &target.addresses,
        answer: probed.answer.words(),
        detail: &probed.detail,
        days_left: probed.days_left,
        status: probed.status,
        expected: expected(&target.wanted),
        as_expected: target.wanted.is_met(probed),
    });
    let not_tried =
        report.not_tried.iter().map(|it| NotTriedDocument { address: &it.address, reason: &it.reason });
    Document {
        format: FORMAT,
        stage: &report.stage,
        class: report.class,
        undelivered: report.undelivered,
        services: services.collect(),
        not_tried: not_tried.collect(),
    }
}
