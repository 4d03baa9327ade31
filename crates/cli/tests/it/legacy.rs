//! The demo's old files: six services, each with its own mess, brought in and rendered again.

use std::collections::BTreeMap;
use std::fs;

use cledger_core::adopt::flattened;
use cledger_core::value::Value;
use cledger_formats::{Particulars, detect, format};
use snapbox::str;

use crate::test_ledger::{TestLedger, written};

pub(crate) const STAGES: [&str; 5] = ["dev", "test", "staging", "prod-north", "prod-south"];

pub(crate) const SIGNED: &str = "--countersign prod-north,prod-south --why taken-over";

/// The values in a text, by name, as another program would find them.
pub(crate) fn values(name: &str, text: &str) -> BTreeMap<Vec<String>, Value> {
    let this = detect(name, text).unwrap();
    let found = format(this, Particulars::default()).unwrap().read(text).unwrap();
    flattened(&found.tree.0).into_iter().collect()
}

pub(crate) fn sources(of: impl Fn(&str) -> String) -> String {
    STAGES.map(|stage| format!("{stage}=../legacy/{}", of(stage))).join(" ")
}

#[test]
fn the_legacy_of_the_demo_comes_back_value_for_value() {
    let ledger = TestLedger::demo();
    let berths = format!("adopt berth-planner {}", sources(|stage| format!("berth-planner/{stage}")));
    let lost = format!("adopt lost-property {}", sources(|stage| format!("lost-property/{stage}")));
    let before = ledger.read("stages/prod-north.toml");
    ledger.run_in_80(&berths).code(0).stderr_eq("").stdout_eq(str![[r#"
output              format      found in
planner.env         dotenv      dev, test, staging, prod-north, prod-south
planner.properties  properties  dev, test, staging, prod-north, prod-south

entry                    kind                    fields
java_heap                variable                size
log_level                variable                text
status                   endpoint                base
debug_port               variable                port
berths-db                connection, postgresql  host, port, database, user,
                                                 password (secret)
berths_db_user           variable                text
tides                    endpoint                base, timeout
planner_horizon          variable                duration
planner_max_draught      variable                number
planner_slots_per_berth  variable                integer
planner_notify_crew      variable                text
planner_greeting         variable                text
planner_archive_dir      variable                path
planner_tow_boats        variable                boolean

4 defaults, 58 settings, 5 of them secret.

has no value in these stages, since their files lack it:
  debug_port: test, staging, prod-north, prod-south
  berths-db.user: prod-south
  berths_db_user: dev, test, staging, prod-north
  planner_tow_boats: staging, prod-north, prod-south

in addition, since the stage follows another or has groups:
  berths.db.username in ../legacy/berth-planner/prod-south/planner.properties

could be one default with ${stage.name} in it:
  planner_archive_dir

proven: rendering gives back 83 values of 10 files, each as it was.
as text: of 93 lines, 16 go and 7 come.
nothing written: berth-planner would be a new unit; --write does it.

"#]]);
    assert!(!ledger.path("units/berth-planner.toml").exists(), "without --write nothing changes");
    assert_eq!(ledger.read("stages/prod-north.toml"), before);
    ledger.run(&format!("{berths} --write")).code(4).stdout_eq("").stderr_eq(str![[r#"
error: `dev` has no key: secrets would stand there in plain text
help: make one: cledger key make @dev --write; or add --plain-secrets

"#]]);
    for command in [&berths, &lost] {
        ledger.run(&format!("{command} --write --plain-secrets {SIGNED}")).code(0);
        let (out, _) = written(&ledger.run(command).code(0));
        assert!(out.ends_with(" is as its files are.\n"), "a second time there is nothing to do: {out}");
    }
    for stage in STAGES {
        ledger
            .run(&format!("render berth-planner@{stage} --partial --out out/{stage} --countersign {stage}"));
        ledger
            .run(&format!("render lost-property@{stage} --partial --out out/{stage} --countersign {stage}"));
        for (rendered, old) in [
            ("berth-planner/planner.env".to_owned(), format!("berth-planner/{stage}/planner.env")),
            (
                "berth-planner/planner.properties".to_owned(),
                format!("berth-planner/{stage}/planner.properties"),
            ),
            ("lost-property/finds.yaml".to_owned(), format!("lost-property/{stage}/finds.yaml")),
        ] {
            let old = fs::read_to_string(ledger.path(&format!("../legacy/{old}"))).unwrap();
            let mut now = values(&rendered, &ledger.read(&format!("out/{stage}/{rendered}")));
            if stage == "prod-south" {
                // It follows prod-north, whose spelling of this name was another one.
                now.remove(&vec!["berths.db.username".to_owned()]);
            }
            assert!(now == values(&rendered, &old), "{stage} {rendered}");
        }
    }
    // What was wrong all along is found.
    let (out, _) = written(&ledger.run("check berth-planner").code(1));
    for wrong in [
        "`password` of `berths-db` is the same in `prod-south` as in `test`",
        "`debug_port` has no value in `prod-north`",
        "`planner_notify_crew` in `prod-south` differs from that in `prod-north`",
    ] {
        assert!(out.contains(wrong), "{wrong}: {out}");
    }
}

/// Three stages of a service, each with a folder of its own.
fn folders(unit: &str) -> String {
    ["dev", "test", "prod-north"].map(|stage| format!("{stage}=../legacy/{unit}/{stage}")).join(" ")
}

#[test]
fn what_stands_beside_values_and_what_has_no_type_comes_back() {
    let ledger = TestLedger::demo();
    // The lines that go are comments, and in JSON the way in which levels stand on one line.
    for (unit, files, gone, come) in [
        ("slip-radio", &["radio.yaml"][..], 3, 0),
        ("wharf-crane", &["crane.ini", "crane.xml"], 6, 0),
        ("deck-signs", &["signs.json"], 9, 33),
    ] {
        let adopt = format!("adopt {unit} {}", folders(unit));
        let code = i32::from(unit == "deck-signs");
        ledger.run(&format!("{adopt} --write --plain-secrets {SIGNED}")).code(code);
        let (out, _) = written(&ledger.run(&format!("{adopt} --json")).code(code));
        let document: serde_json::Value = serde_json::from_str(&out).unwrap();
        assert_eq!(
            (&document["text"]["gone"], &document["text"]["come"]),
            (&gone.into(), &come.into()),
            "{unit}"
        );
        // What nobody has said of the others is not needed there.
        let contract = ledger.read(&format!("units/{unit}.toml"));
        let contract = contract.replace("[variables.alarm_to]", "[variables.alarm_to]\nrequired = false");
        ledger.write(&format!("units/{unit}.toml"), contract);
        for stage in ["dev", "test", "prod-north"] {
            let render = format!("render {unit}@{stage} --out out/{stage} --countersign prod-north");
            if unit == "deck-signs" && stage == "dev" {
                // A number that no reader of YAML keeps holds it up until somebody has settled it.
                let (out, _) = written(&ledger.run(&render).code(1));
                assert!(out.contains("[not-adopted]: `stock.batch`"), "{out}");
                let accepted = "waive deck-signs not-adopted --why counted-anew --until 2099-01-01 --write";
                ledger.run(&format!("{accepted} --countersign prod-north,prod-south")).code(0);
            }
            // Secrets in plain text hold production up; the files are what is looked at here.
            ledger.run(&format!("{render} --partial"));
            for file in files {
                let old =
                    fs::read_to_string(ledger.path(&format!("../legacy/{unit}/{stage}/{file}"))).unwrap();
                let now = ledger.read(&format!("out/{stage}/{unit}/{file}"));
                assert!(values(file, &now) == values(file, &old), "{unit} {stage} {file}: {now}");
            }
        }
    }
}

#[test]
fn a_base_file_becomes_defaults_and_what_stages_say_otherwise_settings() {
    let ledger = TestLedger::demo();
    let old = "../legacy/night-shifts";
    let stages =
        ["dev", "test", "prod-north"].map(|stage| format!("{stage}={old}/{stage}.properties")).join(" ");
    let adopt = format!("adopt night-shifts default={old}/base.properties {stages} --write {SIGNED}");
    let (out, _) = written(&ledger.run(&adopt).code(0));
    assert!(
        out.contains("6 defaults, 10 settings") && out.contains("one truth in several spellings"),
        "{out}"
    );
    ledger.run("get night-shifts/shifts_weeks@dev").code(0).stdout_eq("1\n");
    ledger.run("get night-shifts/shifts_weeks@test").code(0).stdout_eq("4\n");
    ledger.run("get night-shifts/shifts_home@test").code(0).stdout_eq("'$HOME'\n");
    // A value that a shell would work out is refused with its line, and one in single quotes is taken.
    let (_, err) = written(&ledger.run(&format!("adopt night-shifts dev={old}/start-dev.sh")).code(2));
    assert!(err.contains("start-dev.sh:5: a value with $ is worked out by the shell"), "{err}");
    let script =
        ledger.read(&format!("{old}/start-dev.sh")).replace("=$HOME/shifts.log", "='/var/log/shifts.log'");
    ledger.write(&format!("{old}/start-dev.sh"), script);
    ledger.run(&format!("adopt night-shifts dev={old}/start-dev.sh --no-defaults --write {SIGNED}")).code(0);
    ledger.run("get night-shifts/shifts_home_2@dev").code(0).stdout_eq("$HOME/shifts\n");
}
