//! `share`: a unit's entry for several units, and every value as it was.

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

#[test]
fn an_entry_is_shared_with_its_settings_and_its_twin() {
    let ledger = TestLedger::demo();
    // The other unit has declared the same by itself.
    let contract =
        ledger.read("units/quay-screens.toml") + "\n[credentials.card-terminal]\nform = \"token\"\n";
    ledger.write("units/quay-screens.toml", contract);
    for stage in ["dev", "test"] {
        let set = format!("set quay-screens/card-terminal.token@{stage} --stdin --plain-secrets");
        ledger.command(&set).stdin(format!("{stage}-terminal")).assert().code(0);
    }
    let strongroom = "file:../strongroom/${stage.name}/card-terminal";
    let set = "set quay-screens/card-terminal.token@guarded --why x --countersign prod-north,prod-south";
    ledger.command(set).args(["--from", strongroom]).assert().code(0);
    let group = ledger.read("groups/guarded.toml").replace(", why = \"x\"", "");
    ledger.write("groups/guarded.toml", group);
    let before = written(&ledger.run("search --effective */card-terminal.*@test --json"))
        .0
        .replace("quay-screens", "x");
    ledger
        .run("share ticket-desk/card-terminal --with quay-screens")
        .code(0)
        .stdout_eq(str![[r#"
changes  groups/guarded.toml
changes  shared.toml
changes  stages/dev.toml
changes  stages/test.toml
changes  units/quay-screens.toml
changes  units/ticket-desk.toml

No effective value changes.
nothing written: ticket-desk/card-terminal would become shared/card-terminal in 6 files; --write does it.

"#]])
        .stderr_eq("");
    assert!(!ledger.read("shared.toml").contains("card-terminal"), "it was only shown");
    ledger.run("share ticket-desk/card-terminal --with quay-screens --write").code(0);
    let after = written(&ledger.run("search --effective */card-terminal.*@test --json"))
        .0
        .replace("quay-screens", "x");
    assert_eq!(after.matches("\"secret\":true").count(), before.matches("\"secret\":true").count());
    for path in ["units/ticket-desk.toml", "units/quay-screens.toml"] {
        let text = ledger.read(path);
        assert!(
            text.contains("\"card-terminal\"]") && !text.contains("[credentials.card-terminal]"),
            "{text}"
        );
    }
    assert!(ledger.read("shared.toml").ends_with(
        "\n[credentials.card-terminal]\nform = \"token\"\nabout = \"Lets the desk talk to the card terminals\"\n"
    ));
    let text = ledger.read("stages/test.toml");
    assert_eq!(text.matches("test-terminal").count(), 1, "{text}");
    assert!(text.contains("[shared.card-terminal]\ntoken = \"test-terminal\"\n"), "{text}");
}

#[test]
fn what_stands_in_the_way_is_named() {
    let ledger = TestLedger::demo();
    ledger.run("share ticket-desk/fare_service --write").code(4).stdout_eq("").stderr_eq(str![[r#"
error: `ticket-desk/fare_service` cannot be shared as it is: ticket-desk/fare_service@dev would change
help: shared text can name shared entries only: give that field a value without such a reference

"#]]);
    ledger.run("share ticket-desk/events").code(2).stdout_eq("").stderr_eq(str![[r#"
error: there is a shared entry `events` already
help: add it to `uses` of the units that need it, or rename this one

"#]]);
    ledger.run("share shared/mail").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `shared/mail` names no entry of a unit
help: write UNIT/ENTRY

"#]]);
    ledger.run("share ticket-desk/nothing").code(2).stdout_eq("");
    ledger.run("share ticket-desk/region --with nobody").code(2).stdout_eq("");
    // Two units that differ in an entry of one name.
    let contract =
        ledger.read("units/fare-engine.toml") + "\n[variables.rest_hours]\ntype = \"integer\"\ndefault = 9\n";
    ledger.write("units/fare-engine.toml", contract);
    ledger.run("share crew-roster/rest_hours --with fare-engine").code(4).stdout_eq("").stderr_eq(str![[
        r#"
error: `crew-roster/rest_hours` cannot be shared as it is: fare-engine/rest_hours@dev would change
help: the units differ in it: leave that unit out of --with, or let the values agree first

"#
    ]]);
}
