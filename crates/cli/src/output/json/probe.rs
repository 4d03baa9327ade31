//! `probe` for programs.

use serde::Serialize;

use super::FORMAT;
use cledger_work::probe::ProbeReport;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'r> {
    format: u32,
    stage: &'r str,
    class: &'static str,
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
    });
    let not_tried =
        report.not_tried.iter().map(|it| NotTriedDocument { address: &it.address, reason: &it.reason });
    Document {
        format: FORMAT,
        stage: &report.stage,
        class: report.class,
        services: services.collect(),
        not_tried: not_tried.collect(),
    }
}
