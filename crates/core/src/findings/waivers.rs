//! What is waived, and `waiver-expired` and `waiver-unneeded`, which keep the waivers honest.

use jiff::civil::Date;

use super::code::{Code, Severity};
use super::finding::Finding;
use crate::address::Address;
use crate::model::{Ledger, Waived, Waiver};

/// The first waiver that counts for a finding, by its position.
pub(super) fn of(ledger: &Ledger, finding: &Finding, today: Option<Date>) -> Option<usize> {
    let mut of_code = ledger
        .waivers
        .iter()
        .enumerate()
        .filter(|(_, waiver)| waiver.what.is_about(finding) && waiver.counts_on(today));
    let address = Address::parse(&finding.address).ok();
    let covers = |waiver: &Waiver| address.as_ref().is_some_and(|address| waiver.pattern.covers(address));
    of_code.find(|(_, waiver)| covers(waiver)).map(|(at, _)| at)
}

/// Parts what is waived, each with the position of its waiver, from the rest.
pub(super) fn part(
    ledger: &Ledger,
    findings: Vec<Finding>,
    today: Option<Date>,
) -> (Vec<Finding>, Vec<(Finding, usize)>) {
    if ledger.waivers.is_empty() {
        return (findings, Vec::new());
    }
    let (mut kept, mut waived) = (Vec::new(), Vec::new());
    for finding in findings {
        match of(ledger, &finding, today) {
            Some(by) => waived.push((finding, by)),
            None => kept.push(finding),
        }
    }
    (kept, waived)
}

/// The waivers that are over, and those that nothing needs any more.
pub(super) fn judge(ledger: &Ledger, waived: &[(Finding, usize)], today: Date, findings: &mut Vec<Finding>) {
    for (at, waiver) in ledger.waivers.iter().enumerate() {
        let what = waiver.what.name();
        if !waiver.counts_on(Some(today)) {
            let message = format!(
                "the waiver of `{what}` for {} was to count until {} only ({})",
                waiver.pattern, waiver.until, waiver.why
            );
            let help = "mend what it is about, or agree on another last day with whoever agreed on this one";
            findings.push(finding(waiver, Code::WaiverExpired, message, help));
        } else if waiver.what != Waived::Drift && !waived.iter().any(|(_, by)| *by == at) {
            let message = format!("nothing needs the waiver of `{what}` for {}", waiver.pattern);
            let help = "take it out of waivers.toml, or mend its `address`";
            findings.push(finding(waiver, Code::WaiverUnneeded, message, help));
        } else if waiver.what == Waived::Finding(Code::Rule) {
            let message =
                format!("the waiver of `{what}` for {} covers whatever rule is broken", waiver.pattern);
            let help = "name the rule that is meant: code = \"rule:NAME\"";
            findings.push(finding(waiver, Code::WaiverTooWide, message, help));
        }
    }
}

fn finding(waiver: &Waiver, code: Code, message: String, help: &str) -> Finding {
    let address = waiver.pattern.to_string();
    Finding {
        code,
        severity: Severity::Warning,
        subject: address.split('@').next().unwrap_or_default().to_owned(),
        stage: address.split_once('@').map(|(_, stage)| stage.to_owned()),
        address,
        unit: None,
        message,
        place: Some(waiver.place),
        hides_value: false,
        help: help.to_owned(),
        because_of: None,
        needed_by: Vec::new(),
        rule: None,
    }
}
