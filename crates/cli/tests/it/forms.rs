//! The forms in which `check` gives its findings to other tools.

use std::path::Path;
use std::process::Command;

use serde_json::Value;
use snapbox::str;

use crate::test_ledger::{SMALL, TestLedger, is_there, program};

/// An error in a unit's own field, a warning in a shared one, and one without a place of its own.
fn ledger() -> TestLedger {
    let ledger = TestLedger::with(SMALL);
    let prod =
        ledger.read("stages/prod.toml").replace("\"south\"", "\"so<uth\"").replace("hold = \"2m\"\n", "");
    ledger.write("stages/prod.toml", prod);
    ledger
}

#[test]
fn editors_get_a_line_for_each_finding() {
    let ledger = ledger();
    ledger.run("check --form lines").code(1).stderr_eq("").stdout_eq(str![[r#"
stages/prod.toml:7:10: error: desk/region@prod: the value of `region` breaks `one_of`: it must be one of north, south [not-allowed]
stages/dev.toml:4:12: warning: shared/db.password@dev: `password` of `db` is a secret, and stands here in plain text [plain-secret]

"#]]);
    // Paths are those from the current folder.
    let output =
        program().args(["-C", "ledger", "check", "--form", "lines"]).current_dir(ledger.path("..")).output();
    let text = String::from_utf8(output.unwrap().stdout).unwrap();
    assert!(text.lines().all(|line| line.starts_with("ledger/stages/")), "{text}");
}

#[test]
fn sarif_names_rules_places_and_levels() {
    let ledger = ledger();
    let output = ledger.command("check --form sarif").output().unwrap();
    let document: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(document["version"], "2.1.0");
    let run = &document["runs"][0];
    let rules: Vec<&str> = run["tool"]["driver"]["rules"]
        .as_array()
        .unwrap()
        .iter()
        .map(|rule| rule["id"].as_str().unwrap())
        .collect();
    let found: Vec<(&str, &str, &str, u64, u64)> = run["results"]
        .as_array()
        .unwrap()
        .iter()
        .map(|result| {
            let place = &result["locations"][0]["physicalLocation"];
            let number = |name: &str| place["region"][name].as_u64().unwrap();
            (
                result["ruleId"].as_str().unwrap(),
                result["level"].as_str().unwrap(),
                place["artifactLocation"]["uri"].as_str().unwrap(),
                number("startLine"),
                number("startColumn"),
            )
        })
        .collect();
    assert_eq!(
        found,
        [
            ("not-allowed", "error", "stages/prod.toml", 7, 10),
            ("plain-secret", "warning", "stages/dev.toml", 4, 12),
        ]
    );
    assert!(found.iter().all(|(rule, ..)| rules.contains(rule)));
}

#[test]
fn junit_has_a_case_for_each_stage_and_finding() {
    let ledger = ledger();
    ledger.run("check --form junit").code(1).stderr_eq("").stdout_eq(str![[r#"
<?xml version="1.0" encoding="UTF-8"?>
<testsuites name="cledger check" tests="3" failures="1" errors="0">
    <testsuite name="shared entries and the ledger" tests="1" skipped="0" errors="0" failures="0">
        <testcase name="shared/db.password@dev plain-secret" classname="shared.dev">
            <system-out>`password` of `db` is a secret, and stands here in plain text
stages/dev.toml:4:12
cledger key protect @dev --write, or set it --from env:NAME</system-out>
        </testcase>
    </testsuite>
    <testsuite name="desk" tests="2" skipped="0" errors="0" failures="1">
        <testcase name="desk@dev" classname="desk.dev"/>
        <testcase name="desk/region@prod not-allowed" classname="desk.prod">
            <failure message="the value of `region` breaks `one_of`: it must be one of north, south" type="not-allowed">the value of `region` breaks `one_of`: it must be one of north, south
stages/prod.toml:7:10
write one of north, south</failure>
        </testcase>
    </testsuite>
</testsuites>

"#]]);
    let failures = |arguments: &str| {
        let output = ledger.command(arguments).output().unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        (text.matches("<failure ").count(), text.matches("<testcase ").count(), output.status.code())
    };
    assert_eq!(failures("check --form junit --fail-on warning"), (2, 3, Some(1)));
    assert_eq!(failures("check desk@dev --form junit"), (0, 2, Some(0)));
    if is_there("python3") {
        let script = "import sys, xml.etree.ElementTree as t; print(len(t.parse(sys.stdin).getroot().findall('.//failure')))";
        let mut python = Command::new("python3");
        python.args(["-c", script]).stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped());
        let mut child = python.spawn().unwrap();
        let report = ledger.command("check --form junit").output().unwrap().stdout;
        std::io::Write::write_all(&mut child.stdin.take().unwrap(), &report).unwrap();
        assert_eq!(child.wait_with_output().unwrap().stdout, b"1\n");
    }
}

#[test]
fn codes_are_explained_and_severities_chosen() {
    let ledger = ledger();
    ledger.run_in_80("check --explain name-clash").code(0).stdout_eq(str![[r#"
name-clash

Error. Two fields have one name in a rendered file, or one would lie inside the
other, or two outputs have one path.

To mend it, give one of the fields another name with `as`, or one of the outputs
another `path`.

"#]]);
    let text = ledger.command("check --explain name-clash --json").output().unwrap().stdout;
    let document: Value = serde_json::from_slice(&text).unwrap();
    assert!(document["code"] == "name-clash" && document["text"].as_str().unwrap().contains("one name"));
    ledger.run("check desk@dev").code(0);
    ledger.run("check desk@dev --fail-on warning").code(1);
    for arguments in ["check --explain nope", "check desk --explain name-clash", "check --json --form lines"]
    {
        ledger.run(arguments).code(2);
    }
}

/// The whole demo in both forms, as the standards and the readers of others want it.
#[test]
fn the_forms_are_valid_by_the_schemas_of_others() {
    let schemas = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/schemas");
    let demo = TestLedger::demo();
    // One of its patterns has a bracket too many, which is no regular expression.
    let text = std::fs::read_to_string(schemas.join("sarif-2.1.0.json")).unwrap().replace("{2}]?$", "{2}$");
    let schema = jsonschema::validator_for(&serde_json::from_str(&text).unwrap()).unwrap();
    for arguments in ["check --form sarif", "check @dev --form sarif", "check shared/nothing* --form sarif"] {
        let output = demo.command(arguments).output().unwrap();
        let Ok(report) = serde_json::from_slice::<Value>(&output.stdout) else { continue };
        let errors: Vec<String> = schema.iter_errors(&report).map(|error| error.to_string()).collect();
        assert!(errors.is_empty(), "{arguments}: {errors:?}");
        assert!(!schema.is_valid(&serde_json::json!({ "version": "2.1.0", "runs": [{}] })));
    }
    if is_there("xmllint") {
        for arguments in ["check --form junit", "check --form junit --fail-on warning"] {
            let report = demo.command(arguments).output().unwrap().stdout;
            demo.write("report.xml", report);
            let mut xmllint = Command::new("xmllint");
            xmllint
                .arg("--noout")
                .arg("--schema")
                .arg(schemas.join("junit-10.xsd"))
                .arg(demo.path("report.xml"));
            let output = xmllint.output().unwrap();
            assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        }
    }
}
