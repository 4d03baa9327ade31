//! `remove`: what goes, what goes with it, and what stands in the way.

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

#[test]
fn something_goes_with_its_settings_and_nothing_else() {
    let ledger = TestLedger::demo();
    let (units, production) = (ledger.read("units/ticket-desk.toml"), ledger.read("groups/production.toml"));
    ledger
        .run("remove ticket-desk/languages")
        .code(0)
        .stdout_eq(str![[r#"
changes  groups/production.toml
changes  units/ticket-desk.toml

nothing written: ticket-desk/languages would go, with 7 effective values; --write does it.

"#]])
        .stderr_eq("The change itself needs --countersign prod-north,prod-south.\n");
    assert_eq!(ledger.read("units/ticket-desk.toml"), units, "it was only shown");
    ledger.run("remove ticket-desk/languages --write --countersign prod-north,prod-south").code(0).stdout_eq(
        str![[r#"
changes  groups/production.toml
changes  units/ticket-desk.toml

removed: ticket-desk/languages, with 7 effective values.

"#]],
    );
    let declared = "[variables.languages]\ntype = \"list\"\ndefault = [\"en\", \"de\"]\n\n";
    assert_eq!(ledger.read("units/ticket-desk.toml"), units.replace(declared, ""));
    let set = "[units.ticket-desk]\nlanguages = [\"en\", \"de\", \"fr\", \"nl\"]\n\n";
    assert_eq!(ledger.read("groups/production.toml"), production.replace(set, ""));
}

#[test]
fn units_instances_and_fields_go_with_their_files() {
    let ledger = TestLedger::demo();
    let signed = "--write --countersign prod-north,prod-south";
    ledger.run(&format!("remove ticket-desk+kiosk shared/events.prefetch {signed}")).code(0);
    ledger.run(&format!("remove tide-watch {signed}")).code(0);
    ledger.run("remove @dev --write").code(4).stdout_eq("");
    for path in
        ledger.files("").iter().filter(|path| !path.starts_with(".cledger") && *path != "waivers.toml")
    {
        let text = ledger.read(path);
        for gone in ["kiosk", "prefetch", "tide-watch"] {
            assert!(!text.contains(gone) && !path.contains(gone), "{gone} in {path}:\n{text}");
        }
    }
    ledger.run("check").code(1);
    ledger.run("render @prod-north --out out --countersign prod-north").code(0);
}

#[test]
fn what_others_depend_on_stays_unless_they_go_too() {
    let ledger = TestLedger::demo();
    let before: Vec<String> = ledger.files("").iter().map(|path| ledger.read(path)).collect();
    ledger.run("remove fare-engine --write").code(4).stdout_eq("").stderr_eq(str![[r#"
error: fare-engine cannot go: something depends on it
  error[reference-unknown] ticket-desk+kiosk/fare_service@prod-north
  error[reference-unknown] ticket-desk+kiosk/fare_service@prod-south
  error[reference-unknown] ticket-desk/fare_service@dev
  error[reference-unknown] ticket-desk/fare_service@prod-north
  error[reference-unknown] ticket-desk/fare_service@prod-south
  error[reference-unknown] ticket-desk/fare_service@staging
  error[reference-unknown] ticket-desk/fare_service@test
  units/ticket-desk.toml:24  default = "http://${fare-engine/listen.host}:${fare-engine/listen.port}/fares"
  ledger.toml:97  units = ["ticket-desk", "fare-engine"]
help: change these first, or let them go too: name them in the same command, or add --with-mentions

"#]]);
    ledger.run("remove shared/tide-api ticket-desk --write").code(4).stdout_eq("").stderr_eq(str![[r#"
error: shared/tide-api, ticket-desk cannot go: it is mentioned elsewhere
  ledger.toml:97  units = ["ticket-desk", "fare-engine"]
  units/quay-screens.toml:4  uses = ["events", "tide-api"]
  units/tide-watch.toml:4  uses = ["events", "mail", "tide-api"]
help: --with-mentions takes these along; or let go what they stand in, too

"#]]);
    ledger.run("remove @guarded --write").code(4).stdout_eq("").stderr_eq(str![[r#"
error: @guarded cannot go: it is mentioned elsewhere
  ledger.toml:21  groups = ["guarded"]
  ledger.toml:28  groups = ["guarded", "production"]
  ledger.toml:38  groups = ["guarded", "production"]
help: --with-mentions takes these along; or let go what they stand in, too

"#]]);
    ledger.run("remove ticket-desk/languages --write").code(4).stdout_eq("").stderr_eq(str![[r#"
error: this changes prod-north and prod-south, production stages
help: add --countersign prod-north,prod-south

"#]]);
    ledger.run("remove ticket-desk/nothing").code(2).stdout_eq("");
    ledger.run("remove shared/mail.host").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `host` is a field that every connection has
help: the contract can tune it: fields.host.as, fields.host.required and others

"#]]);
    let files = ledger.files("");
    let after: Vec<String> =
        files.iter().filter(|path| !path.starts_with(".cledger")).map(|path| ledger.read(path)).collect();
    assert_eq!(before, after);
    let both =
        "remove fare-engine ticket-desk/fare_service --write --countersign prod-north,prod-south --json";
    let (out, _) = written(&ledger.run(both).code(0));
    let document: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert!(document["written"] == true && document["effects"].as_array().unwrap().len() > 20, "{out}");
    assert!(!ledger.path("units/fare-engine.toml").exists());
}
