//! `render`: files that their readers read back exactly.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

#[test]
fn render_lists_what_it_wrote_and_leaves_the_unchanged_alone() {
    let ledger = TestLedger::demo();
    ledger
        .run("render @prod-north --out out --countersign prod-north")
        .code(0)
        .stdout_eq(str![[r#"
new        out/crew-roster/roster.json  (holds secrets: 0600)
new        out/crew-roster/roster.env  (holds secrets: 0600)
new        out/fare-engine/fares.yaml  (holds secrets: 0600)
new        out/harbour-gate/gate.properties  (holds secrets: 0600)
new        out/night-mail/night-mail.env  (holds secrets: 0600)
new        out/quay-screens/conf/screens.properties  (holds secrets: 0600)
new        out/quay-screens/quays.csv
new        out/ticket-desk/ticket-desk.env  (holds secrets: 0600)
new        out/ticket-desk+kiosk/ticket-desk.env  (holds secrets: 0600)
new        out/tide-watch/tide-watch.json  (holds secrets: 0600)
rendered: 10 files.

"#]])
        .stderr_eq("");
    let file = ledger.path("out/ticket-desk/ticket-desk.env");
    let about = fs::metadata(&file).unwrap();
    assert_eq!(about.permissions().mode() & 0o777, 0o600, "it holds secrets");
    ledger.run("render @prod-north --out out --countersign prod-north").code(0).stdout_eq(str![[r#"
unchanged  out/crew-roster/roster.json  (holds secrets: 0600)
unchanged  out/crew-roster/roster.env  (holds secrets: 0600)
unchanged  out/fare-engine/fares.yaml  (holds secrets: 0600)
unchanged  out/harbour-gate/gate.properties  (holds secrets: 0600)
unchanged  out/night-mail/night-mail.env  (holds secrets: 0600)
unchanged  out/quay-screens/conf/screens.properties  (holds secrets: 0600)
unchanged  out/quay-screens/quays.csv
unchanged  out/ticket-desk/ticket-desk.env  (holds secrets: 0600)
unchanged  out/ticket-desk+kiosk/ticket-desk.env  (holds secrets: 0600)
unchanged  out/tide-watch/tide-watch.json  (holds secrets: 0600)
rendered: 10 files.

"#]]);
    assert_eq!(fs::metadata(&file).unwrap().modified().unwrap(), about.modified().unwrap());
    fs::write(&file, "changed by hand").unwrap();
    ledger.run("render ticket-desk@prod-north --out out --countersign prod-north").code(0).stdout_eq(str![[
        r#"
changed    out/ticket-desk/ticket-desk.env  (holds secrets: 0600)
rendered: 1 file.

"#
    ]]);
}

#[test]
fn what_is_in_the_way_of_a_file_keeps_no_other_from_being_written() {
    let ledger = TestLedger::demo();
    ledger.write("out/fare-engine/fares.yaml/theirs", "kept");
    fs::create_dir_all(ledger.path("out/night-mail")).unwrap();
    std::os::unix::fs::symlink(ledger.path("ledger.toml"), ledger.path("out/night-mail/night-mail.env"))
        .unwrap();
    let manifest = ledger.read("ledger.toml");
    let render = || ledger.run("render @prod-north --out out --countersign prod-north");
    render().code(3).stdout_eq("").stderr_eq(str![[r#"
error: `out/fare-engine/fares.yaml` cannot be written: it is a folder, and a file is needed
help: files there as rendered: 8 of 10; once nothing is in the way, render again

"#]]);
    assert_eq!(
        (ledger.read("out/fare-engine/fares.yaml/theirs"), ledger.read("ledger.toml")),
        ("kept".into(), manifest)
    );
    fs::remove_dir_all(ledger.path("out/fare-engine")).unwrap();
    fs::remove_file(ledger.path("out/night-mail/night-mail.env")).unwrap();
    let (out, _) = written(&render().code(0));
    assert_eq!((out.matches("unchanged").count(), out.matches("new").count()), (8, 2), "{out}");
}

#[test]
fn nothing_is_written_while_a_value_is_missing() {
    let ledger = TestLedger::demo();
    ledger.run("render @prod-south --out out --countersign prod-south").code(1).stdout_eq(str![[r#"
error[missing-value]: `host` of `lock-controller` has no value in `prod-south`: each stage must state its own, and no default or followed one counts
 --> units/harbour-gate.toml:7:14
  |
7 | [connections.lock-controller]
  |              ^^^^^^^^^^^^^^^ harbour-gate/lock-controller.host@prod-south
  |
  = help: cledger set harbour-gate/lock-controller.host@prod-south=… --countersign prod-south --why TEXT

error[missing-value]: `region` has no value in `prod-south`: it refers to ticket-desk/region@prod-south, which has no value
  --> units/quay-screens.toml:20:11
   |
20 | default = "${ticket-desk/region}"
   |           ^^^^^^^^^^^^^^^^^^^^^^^ quay-screens/region@prod-south
   |
   = help: give ticket-desk/region@prod-south a value, or write another one here

error[missing-value]: `region` has no value in `prod-south`: each stage must state its own, and no default or followed one counts
  --> units/ticket-desk.toml:17:12
   |
17 | [variables.region]
   |            ^^^^^^ ticket-desk/region@prod-south
   |
   = help: cledger set ticket-desk/region@prod-south=north --countersign prod-south --why TEXT

error[missing-value]: `region` has no value in `prod-south`: each stage must state its own, and no default or followed one counts
  --> units/ticket-desk.toml:17:12
   |
17 | [variables.region]
   |            ^^^^^^ ticket-desk+kiosk/region@prod-south
   |
   = help: cledger set ticket-desk+kiosk/region@prod-south=north --countersign prod-south --why TEXT

error[points-at-other-stage]: `base` of `payroll` in `prod-south` points at `payroll.test.brackwater.example`, which belongs to `test` (stages/test.toml:38:20)
 --> stages/prod-south/crew-roster.toml:1:16
  |
1 | payroll.base = "https://payroll.test.brackwater.example"
  |                ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^ crew-roster/payroll.base@prod-south
  |
  = help: name what belongs to `prod-south`; what both share belongs into a group of theirs

error[not-aligned]: `rest_hours` in `prod-south` differs from that in `prod-north`, and the two must agree
 --> stages/prod-south/crew-roster.toml:2:14
  |
2 | rest_hours = 12
  |              ^^ crew-roster/rest_hours@prod-south
  |
  = help: cledger compare @prod-north @prod-south; let them agree, or name it in `except` of that [[aligned]]

error[plain-secret]: `token` of `tide-api` is a secret, and stands here in plain text
  --> stages/prod-south/shared.toml:13:9
   |
13 | token = …
   |         ^ shared/tide-api.token@prod-south
   |
   = help: cledger key protect @prod-south --write, or set it --from env:NAME

error[not-distinct]: `token` of `tide-api` is the same in `prod-south` as in `test` (stages/test.toml:17:9), and may not be
  --> stages/prod-south/shared.toml:13:9
   |
13 | token = …
   |         ^ shared/tide-api.token@prod-south
   |
   = help: give shared/tide-api.token@prod-south a value of its own

nothing written: 8 errors are in the way; --partial renders what there is.

"#]]);
    assert!(!ledger.path("out").exists());
    ledger.run("render ticket-desk@prod-south --out out --partial --countersign prod-south").code(1).stdout_eq(str![[r#"
error[missing-value]: `region` has no value in `prod-south`: each stage must state its own, and no default or followed one counts
  --> units/ticket-desk.toml:17:12
   |
17 | [variables.region]
   |            ^^^^^^ ticket-desk/region@prod-south
   |
   = help: cledger set ticket-desk/region@prod-south=north --countersign prod-south --why TEXT

error[plain-secret]: `token` of `tide-api` is a secret, and stands here in plain text
  --> stages/prod-south/shared.toml:13:9
   |
13 | token = …
   |         ^ shared/tide-api.token@prod-south
   |
   = help: cledger key protect @prod-south --write, or set it --from env:NAME

error[not-distinct]: `token` of `tide-api` is the same in `prod-south` as in `test` (stages/test.toml:17:9), and may not be
  --> stages/prod-south/shared.toml:13:9
   |
13 | token = …
   |         ^ shared/tide-api.token@prod-south
   |
   = help: give shared/tide-api.token@prod-south a value of its own

error[missing-value]: `region` has no value in `prod-south`: each stage must state its own, and no default or followed one counts
  --> units/ticket-desk.toml:17:12
   |
17 | [variables.region]
   |            ^^^^^^ ticket-desk+kiosk/region@prod-south
   |
   = help: cledger set ticket-desk+kiosk/region@prod-south=north --countersign prod-south --why TEXT

new        out/ticket-desk/ticket-desk.env  (holds secrets: 0600)
partial: 1 file, with 4 errors in the way.

"#]]);
    let text = ledger.read("out/ticket-desk/ticket-desk.env");
    assert!(text.contains("SEAT_HOLD=") && !text.contains("REGION="), "{text}");
}

#[test]
fn files_without_secrets_are_for_everybody() {
    let mut files = crate::test_ledger::SMALL.to_vec();
    files[2].1 =
        "[variables.hold]\ndefault = \"5m\"\n[[output]]\npath = \"conf/a.json\"\nformat = \"json\"\n";
    let ledger = TestLedger::with(files.into_iter().filter(|(path, _)| !path.starts_with("stages/")));
    ledger.run("render desk@dev").code(0).stdout_eq(str![[r#"
new        rendered/dev/desk/conf/a.json
rendered: 1 file.

"#]]);
    let path = ledger.path("rendered/dev/desk/conf/a.json");
    assert_ne!(fs::metadata(&path).unwrap().permissions().mode() & 0o044, 0);
    assert_eq!(fs::read_to_string(path).unwrap(), "{\n  \"hold\": \"5m\"\n}\n");
}

#[test]
fn an_output_path_stays_in_its_folder() {
    for path in ["../up.env", "/etc/desk.env", "a/../../b.env", "", "a//b"] {
        let ledger = TestLedger::small();
        let contract =
            format!("[variables.a]\ndefault = \"x\"\n[[output]]\npath = {path:?}\nformat = \"dotenv\"\n");
        ledger.write("units/desk.toml", contract);
        let (out, err) = written(&ledger.run("render desk@dev").code(2));
        assert!(out.is_empty() && err.contains("units/desk.toml:4:8"), "{path}: {err}");
    }
}

#[test]
fn one_file_goes_to_standard_output_and_nothing_else_does() {
    let ledger = TestLedger::small();
    let more = "[[output]]\npath = \"etc/more.json\"\nformat = \"json\"\n";
    ledger.run("render desk@dev --out out").code(0);
    let file = ledger.read("out/desk/desk.env");
    ledger.run("render desk@dev --out -").code(0).stdout_eq(file.clone()).stderr_eq("");
    ledger.write("units/desk.toml", ledger.read("units/desk.toml") + more);
    ledger.run("render desk@dev --out - --file desk.env").code(0).stdout_eq(file);
    for (arguments, code, message) in [
        ("desk@dev --out -", 2, "these are several files: desk/desk.env, desk/etc/more.json"),
        ("desk@dev --out - --file more.json", 2, "nothing is rendered to `more.json`"),
        ("desk@prod --out - --file desk.env --countersign prod", 1, "nothing is rendered: "),
    ] {
        let (out, err) = written(&ledger.run(&format!("render {arguments}")).code(code));
        assert!(out.is_empty() && err.contains(message), "{arguments}: {out}{err}");
    }
    ledger.run("render desk@dev --out - --file desk.env --json").code(2);
    assert!(!ledger.path("-").exists());
}
