//! Findings as a JUnit report: a suite a unit, with a case for each stage and each finding.

use cledger_core::findings::{Finding, Report, Severity};
use cledger_core::model::UnitId;
use quick_junit::{NonSuccessKind, Report as Document, SerializeError, TestCase, TestCaseStatus, TestSuite};

use super::places::Places;

/// The report's text. Findings below `fails` are cases that passed, with what was found as their output;
/// `covers` says which stages were checked, by their position.
pub(crate) fn text(
    places: &Places<'_>,
    report: &Report,
    fails: Severity,
    covers: &dyn Fn(usize) -> bool,
) -> Result<String, SerializeError> {
    let ledger = places.ledger;
    let mut document = Document::new("cledger check");
    let case = |finding: &Finding| of_finding(places, finding, fails);
    let of = |unit: Option<UnitId>| report.findings.iter().filter(move |finding| finding.unit == unit);
    let mut shared = TestSuite::new("shared entries and the ledger");
    shared.add_test_cases(of(None).map(case));
    if !shared.test_cases.is_empty() {
        document.add_test_suite(shared);
    }
    for standing in &report.standings {
        let name = ledger.unit(standing.unit).name.as_str();
        let mut suite = TestSuite::new(name);
        for (at, (stage, known)) in ledger.stages.iter().zip(&standing.stages).enumerate() {
            if covers(at) && known.belongs && known.errors == 0 && !known.is_broken {
                let mut case = TestCase::new(format!("{name}@{}", stage.name), TestCaseStatus::success());
                case.set_classname(format!("{name}.{}", stage.name));
                suite.add_test_case(case);
            }
        }
        suite.add_test_cases(of(Some(standing.unit)).map(case));
        document.add_test_suite(suite);
    }
    // The schema that build servers go by knows no `skipped` there.
    document.to_string().map(|text| text.replacen(" skipped=\"0\"", "", 1))
}

fn of_finding(places: &Places<'_>, finding: &Finding, fails: Severity) -> TestCase {
    let at = places.of(finding);
    let text = format!("{}\n{}:{}:{}\n{}", finding.message, at.path, at.line, at.column, finding.help);
    let mut status = TestCaseStatus::success();
    if finding.severity >= fails {
        status = TestCaseStatus::non_success(NonSuccessKind::Failure);
        status.set_type(finding.kind()).set_message(finding.message.as_str()).set_description(text.as_str());
    }
    let passed = finding.severity < fails;
    let mut case = TestCase::new(format!("{} {}", finding.address, finding.kind()), status);
    // What build servers group by: the unit and the stage, as a class and what it is in.
    let owner =
        finding.address.split(['/', '@']).next().filter(|owner| !owner.is_empty()).unwrap_or("ledger");
    let stage = finding.stage.as_deref().map(|stage| format!(".{stage}")).unwrap_or_default();
    case.set_classname(format!("{owner}{stage}"));
    if passed {
        case.set_system_out(text);
    }
    case
}
