//! Conditions on what stands beside, cells of lookup tables, and names that values and rendered files hold.

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

fn ledger() -> TestLedger {
    let stage = |name: &str, more: &str| {
        format!(
            "[units.lamp]\ntimeout = \"2s\"\nstore.host = \"store.{name}.example\"\nstore.port = 99\n{more}"
        )
    };
    let ledger = TestLedger::with([
        (
            "ledger.toml",
            "format = 1\nname = \"Wharf\"\ndefault_stage = \"dev\"\n[[stage]]\nname = \"dev\"\nclass = \"development\"\ngroups = [\"low\"]\n[[stage]]\nname = \"prod-a\"\nclass = \"production\"\n[[stage]]\nname = \"prod-b\"\nclass = \"production\"\n",
        ),
        (
            "units/lamp.toml",
            "[variables.timeout]\ntype = \"duration\"\ndefault = \"1s\"\n[variables.quay]\ndefault = \"south\"\n[variables.me]\ndefault = \"I am ${unit.name}\"\n[connections.store]\nprotocol = \"tcp\"\n[tables.piers]\ncolumns = [\"pier\", \"lamps\", \"keeper\"]\nkey = \"pier\"\nrows = \"tables/piers.csv\"\n[[output]]\npath = \"${unit.name}.env\"\nformat = \"dotenv\"\n[[output]]\npath = \"conf/${stage.name}.json\"\nformat = \"json\"\n",
        ),
        ("tables/piers.csv", "pier,lamps,keeper\nold,3,ada\n\"new\",12,ben\nfar,3,ada\n"),
        ("groups/low.toml", "[units.lamp]\ntimeout = \"9s\"\n"),
    ]);
    ledger.write("stages/dev.toml", stage("dev", ""));
    ledger.write("stages/prod-a.toml", stage("prod-a", ""));
    let row = "quay = \"north\"\n[units.lamp.piers]\nmid = { lamps = \"3\", keeper = \"cas\" } # mid\n";
    ledger.write("stages/prod-b.toml", stage("prod-b", row));
    ledger
}

/// The addresses that a search or a replacement names.
fn addresses(ledger: &TestLedger, arguments: &str) -> Vec<String> {
    let (out, _) = written(&ledger.run(&format!("{arguments} --json")).code(0));
    let document: serde_json::Value = serde_json::from_str(&out).unwrap();
    let found = ["settings", "replaced", "found"].into_iter().find_map(|key| document[key].as_array());
    assert!(found.is_some(), "{out}");
    found.into_iter().flatten().map(|it| it["address"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn what_stands_beside_decides() {
    let ledger = ledger();
    for (arguments, expected) in [
        ("replace */timeout@prod-* --beside quay=north --to 5s", &["lamp/timeout@prod-b"][..]),
        (
            "replace */timeout --beside quay~out --to 5s",
            &["lamp/timeout@default", "lamp/timeout@dev", "lamp/timeout@prod-a", "lamp/timeout@low"],
        ),
        (
            "replace */timeout --beside quay=~^s.*h$ --beside store.host~prod --to 5s",
            &["lamp/timeout@prod-a"],
        ),
        (
            "replace lamp/store.host --beside port>98 --beside port<100 --swap store shop",
            &["lamp/store.host@dev", "lamp/store.host@prod-a", "lamp/store.host@prod-b"],
        ),
        ("replace lamp/store.host --beside port>99 --swap store shop", &[]),
        (
            "replace lamp/piers --equals 3 --to 4",
            &["lamp/piers@default", "lamp/piers@default", "lamp/piers@prod-b"],
        ),
        (
            "replace lamp/piers.lamps --beside keeper=ada --to 7",
            &["lamp/piers@default", "lamp/piers@default"],
        ),
        ("replace lamp/piers --over 10 --to 9", &["lamp/piers@default"]),
        ("replace lamp/piers.keeper --beside quay=north --equals cas --to dot", &["lamp/piers@prod-b"]),
        ("replace lamp/piers --equals new --to old", &[]),
    ] {
        assert_eq!(addresses(&ledger, arguments), expected, "{arguments}");
    }
    for (arguments, error) in [
        ("search */timeout --beside qay=north", "did you mean `quay`?"),
        ("search */timeout --beside north", "write FIELD=TEXT"),
        ("search */timeout --beside =north", "write FIELD=TEXT"),
        ("search */timeout --beside quay=~[", "no regular expression"),
        ("search lamp/piers.keper", "covers no"),
    ] {
        let (_, said) = written(&ledger.run(arguments).code(2));
        assert!(said.contains(error), "{arguments}: {said}");
    }
    assert_eq!(addresses(&ledger, "search lamp/piers.keeper --equals ada"), ["lamp/piers@default"]);
    // Kept in a routine, it says the same.
    ledger.run("replace */timeout@prod-* --beside quay={QUAY} --to 5s --save slow").code(0);
    assert_eq!(addresses(&ledger, "replace --routine slow --with QUAY=north"), ["lamp/timeout@prod-b"]);
}

#[test]
fn cells_and_keys_change_where_they_stand() {
    let ledger = ledger();
    let signed = "--write --countersign prod-a,prod-b";
    ledger.run(&format!("replace lamp/piers.lamps --beside keeper=ada --equals 3 --to 7 {signed}")).code(0);
    assert_eq!(ledger.read("tables/piers.csv"), "pier,lamps,keeper\nold,7,ada\n\"new\",12,ben\nfar,7,ada\n");
    ledger.run(&format!("replace lamp/piers.pier --lead ol co {signed}")).code(0);
    ledger.run(&format!("replace lamp/piers.pier --equals mid --to middle {signed}")).code(0);
    assert_eq!(ledger.read("tables/piers.csv"), "pier,lamps,keeper\ncod,7,ada\n\"new\",12,ben\nfar,7,ada\n");
    let middle = "[units.lamp.piers]\nmiddle = { keeper = \"cas\", lamps = \"3\" }\n";
    assert!(ledger.read("stages/prod-b.toml").ends_with(middle), "{}", ledger.read("stages/prod-b.toml"));
    // Two rows of one key would lose one of them.
    ledger.run(&format!("replace lamp/piers.pier --equals far --to new {signed}")).code(4);
    ledger.run(&format!("replace lamp/piers.pier --over 0 --to 1 {signed}")).code(0);
    ledger.run(&format!("replace lamp/piers.pier --matches . --to one {signed}")).code(4);
}

#[test]
fn names_that_values_and_files_hold_change_where_that_is_wanted() {
    let ledger = ledger();
    ledger
        .run("rename lamp lantern")
        .code(0)
        .stdout_eq(str![[r#"
changes  groups/low.toml
changes  stages/dev.toml
changes  stages/prod-a.toml
changes  stages/prod-b.toml
goes     units/lamp.toml
new      units/lantern.toml

rendered for  before    after
lamp@dev      lamp.env  lantern.env
lamp@prod-a   lamp.env  lantern.env
lamp@prod-b   lamp.env  lantern.env
These names change with --outputs only.

3 effective values change
field              before     after
lantern/me@dev     I am lamp  I am lantern
lantern/me@prod-a  I am lamp  I am lantern
lantern/me@prod-b  I am lamp  I am lantern
nothing written: lamp would become lantern in 6 files; --write does it.

"#]])
        .stderr_eq(str![[r#"
The change itself needs --countersign prod-a,prod-b.

"#]]);
    ledger.run("rename lamp lantern --write --countersign prod-a,prod-b").code(4).stderr_eq(str![[r#"
error: names of rendered files, or in them, would change
  lamp@dev: lamp.env would be lantern.env
  lamp@prod-a: lamp.env would be lantern.env
  lamp@prod-b: lamp.env would be lantern.env
help: let them: --outputs

"#]]);
    ledger.run("rename lamp lantern --write --outputs").code(4);
    ledger.run("rename @prod-a prod-c --write").code(4).stderr_eq(str![[r#"
error: names of rendered files, or in them, would change
  lamp@prod-a: conf/prod-a.json would be conf/prod-c.json
help: let them: --outputs

"#]]);
    ledger.run("rename @prod-a prod-c --write --outputs").code(0);
    let signed = "--write --outputs --countersign prod-b,prod-c";
    ledger.run(&format!("replace lamp --names units --name-swap lamp lantern {signed}")).code(0).stdout_eq(
        str![[r#"
name of    before  after
unit lamp  lamp    lantern

rendered for  before    after
lamp@dev      lamp.env  lantern.env
lamp@prod-b   lamp.env  lantern.env
lamp@prod-c   lamp.env  lantern.env

3 effective values change
field              before     after
lantern/me@dev     I am lamp  I am lantern
lantern/me@prod-c  I am lamp  I am lantern
lantern/me@prod-b  I am lamp  I am lantern

replaced: 1 name.

"#]],
    );
    assert_eq!(written(&ledger.run("get lantern/me@prod-c").code(0)).0, "I am lantern\n");
    ledger.run("check").code(0);
}
