//! `check` for programs.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::findings::{Code, Finding, Report, Severity};
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use rayon::prelude::*;
use serde::Serialize;

use super::FORMAT;
use crate::explanations;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'r> {
    format: u32,
    findings: Vec<FindingDocument<'r>>,
    counts: BTreeMap<&'static str, usize>,
    /// What is accepted for a while.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    waived: Vec<WaivedDocument<'r>>,
    /// The addresses of secrets that could not be judged here.
    #[serde(skip_serializing_if = "BTreeSet::is_empty")]
    unreadable: &'r BTreeSet<String>,
    /// The codes that could not be judged beside everything, since files cannot be read.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    not_judged: Vec<&'static str>,
    /// How many findings a revision had, too, which are left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    older: Option<usize>,
}

#[derive(Debug, Serialize)]
struct WaivedDocument<'r> {
    #[serde(flatten)]
    finding: FindingDocument<'r>,
    why: &'r str,
    until: String,
    by: Option<&'r str>,
}

#[derive(Debug, Serialize)]
pub(crate) struct FindingDocument<'r> {
    code: &'static str,
    severity: &'static str,
    address: &'r str,
    message: &'r str,
    file: Option<&'r str>,
    line: Option<usize>,
    column: Option<usize>,
    help: &'r str,
    /// The name of the rule that is broken.
    #[serde(skip_serializing_if = "Option::is_none")]
    rule: Option<&'r str>,
}

pub(crate) fn finding<'r>(ledger: &'r Ledger, finding: &'r Finding) -> FindingDocument<'r> {
    let at = finding.place.map(|place| ledger.files.locate(place));
    FindingDocument {
        code: finding.code.name(),
        severity: finding.severity.name(),
        address: &finding.address,
        message: &finding.message,
        file: at.as_ref().map(|at| at.file),
        line: at.as_ref().map(|at| at.line),
        column: at.as_ref().map(|at| at.column),
        help: &finding.help,
        rule: finding.rule.as_ref().map(Name::as_str),
    }
}

fn waived<'r>(ledger: &'r Ledger, found: &'r Finding, by: usize) -> WaivedDocument<'r> {
    let waiver = &ledger.waivers[by];
    WaivedDocument {
        finding: finding(ledger, found),
        why: &waiver.why,
        until: waiver.until.to_string(),
        by: waiver.by.as_deref(),
    }
}

#[derive(Debug, Serialize)]
pub(crate) struct Explanation {
    format: u32,
    code: &'static str,
    text: &'static str,
}

/// What a code means, in Markdown.
pub(crate) fn explanation(code: Code) -> Explanation {
    Explanation { format: FORMAT, code: code.name(), text: explanations::of(code) }
}

pub(crate) fn document<'r>(ledger: &'r Ledger, report: &'r Report, older: Option<usize>) -> Document<'r> {
    let severities = [Severity::Error, Severity::Warning];
    Document {
        format: FORMAT,
        findings: report.findings.par_iter().map(|found| finding(ledger, found)).collect(),
        counts: severities.map(|severity| (severity.name(), report.count(severity))).into(),
        waived: report.waived.iter().map(|(found, by)| waived(ledger, found, *by)).collect(),
        unreadable: &report.unreadable,
        not_judged: report.not_judged.iter().map(|code| code.name()).collect(),
        older,
    }
}
