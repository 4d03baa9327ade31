//! Findings as a SARIF document (OASIS, Static Analysis Results Interchange Format 2.1.0).

use std::collections::BTreeMap;

use cledger_core::findings::{Code, Finding, Report, Severity};
use cledger_core::model::{Ledger, Rule, Waived};
use percent_encoding::{AsciiSet, CONTROLS, utf8_percent_encode};
use serde_sarif::sarif::{
    ArtifactLocation, Location, LogicalLocation, Message, MultiformatMessageString, PhysicalLocation, Region,
    ReportingDescriptor, Result as Finding_, ResultLevel, Run, Sarif, Tool, ToolComponent, Version,
};

use super::places::Places;
use crate::explanations;

/// What cannot stand in the path of a URI (RFC 3986 section 3.3).
const NO_PATH: &AsciiSet = &CONTROLS.add(b' ').add(b'"').add(b'#').add(b'<').add(b'>').add(b'?').add(b'`');

pub(crate) fn document(places: &Places<'_>, report: &Report) -> Sarif {
    let driver = ToolComponent::builder()
        .name("cledger")
        .version(env!("CARGO_PKG_VERSION"))
        .rules(rules(places.ledger))
        .build();
    let results: Vec<Finding_> = report.findings.iter().map(|finding| result(places, finding)).collect();
    let run = Run::builder().tool(Tool::builder().driver(driver).build()).results(results).build();
    Sarif::builder().version(Version::V2_1_0.to_string()).runs(vec![run]).build()
}

/// Our codes, and the ledger's own rules.
fn rules(ledger: &Ledger) -> Vec<ReportingDescriptor> {
    let of_code = |code: &Code| described(code.name(), explanations::of(*code));
    let of_rule = |rule: &Rule| {
        let why = rule.why.as_deref().unwrap_or("A rule of the ledger's own.");
        described(&format!("{}{}", Waived::RULE, rule.name), why)
    };
    Code::ALL.iter().map(of_code).chain(ledger.judging.rules.iter().map(of_rule)).collect()
}

fn described(id: &str, text: &str) -> ReportingDescriptor {
    let text = MultiformatMessageString::builder().text(text).build();
    ReportingDescriptor::builder().id(id).full_description(text).build()
}

/// What stays the same when lines move and words change: a finding is the same one as long as this is.
fn fingerprint(finding: &Finding) -> BTreeMap<String, String> {
    let text = format!("{} {}", finding.kind(), finding.address);
    let hash = blake3::hash(text.as_bytes()).to_hex();
    BTreeMap::from([("kindAndAddress/v1".to_owned(), hash[..32].to_owned())])
}

fn result(places: &Places<'_>, finding: &Finding) -> Finding_ {
    let at = places.of(finding);
    let number = |number: usize| i64::try_from(number).unwrap_or(i64::MAX);
    let region = Region::builder()
        .start_line(number(at.line))
        .start_column(number(at.column))
        .end_line(number(at.end.0))
        .end_column(number(at.end.1))
        .build();
    let uri = utf8_percent_encode(&at.path, NO_PATH).to_string();
    let physical = PhysicalLocation::builder()
        .artifact_location(ArtifactLocation::builder().uri(uri).build())
        .region(region)
        .build();
    let logical = LogicalLocation::builder().fully_qualified_name(finding.address.clone()).build();
    let location = Location::builder().physical_location(physical).logical_locations(vec![logical]).build();
    let level = match finding.severity {
        Severity::Error => ResultLevel::Error,
        Severity::Warning => ResultLevel::Warning,
    };
    let text = format!("{}: {}\n{}", finding.address, finding.message, finding.help);
    Finding_::builder()
        .rule_id(finding.kind())
        .level(level)
        .partial_fingerprints(fingerprint(finding))
        .message(Message::builder().text(text).build())
        .locations(vec![location])
        .build()
}
