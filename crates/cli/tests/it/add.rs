//! `add`: new things, declared so that they can be filled.

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

#[test]
fn a_new_stage_lists_what_it_has_to_set() {
    let ledger = TestLedger::small();
    ledger
        .run("add stage qa --class test --after dev")
        .code(0)
        .stdout_eq(str![[r#"
added: stage qa, in ledger.toml and stages/qa.toml.

4 fields need a value now:
  desk/db.host@qa
  desk/db.user@qa
  desk/db.password@qa
  desk/region@qa

"#]])
        .stderr_eq("");
    snapbox::assert_data_eq!(
        ledger.read("stages/qa.toml"),
        str![[r##"
# Settings of qa (class test). What stands behind # is not set: fill it in, and take the # away.

[shared.db]
# host = ""  # host
# user = ""  # text
# password = { from = "env:NAME" }  # text
# With a default that can be changed:
# port = 5432  # port
# database = "tides"  # text

[units.desk]
# region = ""  # text
# With a default that can be changed:
# hold = "5m"  # duration

"##]]
    );
    ledger.run("add stage prod-two --like prod").code(0);
    snapbox::assert_data_eq!(
        ledger.read("stages/prod-two.toml"),
        str![[r##"
# Settings of prod-two (class production). What stands behind # is not set: fill it in, and take the # away.

[shared.db]
# host = ""  # host; in prod: "db.prod.example"
# user = ""  # text; in prod: "ferry"
# password = { from = "env:NAME" }  # text; in prod: (secret)
# With a default that can be changed:
# port = 5432  # port; in prod: 5432
# database = "tides"  # text; in prod: "tides"

[units.desk]
# region = ""  # text; in prod: "south"
# With a default that can be changed:
# hold = "5m"  # duration; in prod: "2m"

"##]]
    );
    snapbox::assert_data_eq!(
        ledger.read("ledger.toml"),
        str![[r#"
format = 1
name = "Small"
default_stage = "dev"
[[stage]]
name = "dev"
class = "development"
[[stage]]
name = "prod"
class = "production"

[[stage]]
name = "qa"
class = "test"
after = ["dev"]

[[stage]]
name = "prod-two"
class = "production"

"#]]
    );
    // Taking the marks away is all that is needed.
    let filled = ledger
        .read("stages/qa.toml")
        .replace("# host = \"\"", "host = \"h.example\"")
        .replace("# region = \"\"", "region = \"north\"");
    ledger.write("stages/qa.toml", filled);
    ledger.run("get desk/db.host@qa").code(0).stdout_eq("h.example\n");
}

#[test]
fn a_new_stage_never_takes_over_a_live_value() {
    let ledger = TestLedger::demo();
    ledger.run("add stage prod-west --like prod-north").code(0);
    let text = ledger.read("stages/prod-west.toml");
    assert!(text.lines().all(|line| line.is_empty() || line.starts_with(['#', '['])), "{text}");
    for part in ["in prod-north: \"north\"", "Which quays it sells for", "# With a default"] {
        assert!(text.contains(part), "{part} in {text}");
    }
    assert!(!text.contains("made-up"), "no secret");
}

#[test]
fn a_stage_that_follows_another_has_its_values_but_not_its_secrets() {
    let ledger = TestLedger::small();
    ledger.write(
        "stages/dev.toml",
        "[shared.db]\nhost = \"db.dev.example\"\nuser = \"dev\"\n\
         password = \"low-tide-dev\"\n\n[units.desk]\nregion = \"north\"\nhold = \"9m\"\n",
    );
    let (out, err) = written(&ledger.run("add stage load --follow dev").code(0));
    assert!(out.contains("desk/db.password@load") && out.contains("desk/region@load"), "{out}");
    assert!(err.contains("Not followed, since they are secrets: */db.password."), "{err}");
    ledger.run("get desk/hold@load").code(0).stdout_eq("9m\n");
    ledger.run("get desk/db.password@load --unmask=always").code(1);
    assert!(ledger.read("ledger.toml").ends_with(
        "name = \"load\"\nclass = \"development\"\nfollow = [{ stage = \"dev\", except = [\n    \"*/db.password\",\n] }]\n"
    ));
    ledger.run("add stage wide --follow dev --with-secrets").code(0).stderr_eq("");
    ledger.run("get desk/db.password@wide --unmask=always").code(0).stdout_eq("low-tide-dev\n");
    ledger.run("add stage other --follow nowhere").code(2);
    ledger.run("add stage other --class test --with-secrets").code(2);
}

#[test]
fn a_unit_like_another_has_its_values_but_not_its_secrets() {
    let ledger = TestLedger::small().with_keys(&["dev"]);
    ledger.write(
        "units/desk.toml",
        format!(
            "formerly = [\"counter\"]\n{}[instances.kiosk]\nstages = [\"dev\"]\n[credentials.till]\nform = \"token\"\n[variables.note]\ndefault = \"a desk\" # desk\n",
            ledger.read("units/desk.toml").split("[[output]]").next().unwrap()
        ),
    );
    let settings = "till.token = \"low-tide-7\"\nnote = { value = \"the desk\", why = \"desk\" }\n[units.\"desk+kiosk\"]\nhold = \"9m\"\n";
    ledger.write("stages/dev.toml", ledger.read("stages/dev.toml") + settings);
    ledger.run("key protect @dev --write").code(0);
    ledger.run("add unit gate --like desk --swap desk gate").code(4).stdout_eq("");
    let (out, err) =
        written(&ledger.run("add unit gate --like desk --swap desk gate --countersign prod").code(0));
    assert!(out.contains("gate/till.token@dev"), "{out}");
    assert_eq!(err, "Not taken over, since they are secrets: till.token (--with-secrets takes them over).\n");
    let contract = ledger.read("units/gate.toml");
    assert!(contract.contains("default = \"a gate\" # desk") && !contract.contains("formerly"), "{contract}");
    for (address, value) in [
        ("gate/note@dev", "the gate\n"),
        ("gate+kiosk/hold@dev", "9m\n"),
        ("gate/region@prod", "south\n"),
        ("desk/note@dev", "the desk\n"),
    ] {
        ledger.run(&format!("get {address}")).code(0).stdout_eq(value);
    }
    ledger.run("get gate/till.token@dev --unmask=always").code(1);
    ledger.run("add unit pier --like desk --with-secrets --countersign prod").code(0);
    ledger.run("get pier/till.token@dev --unmask=always").code(0).stdout_eq("low-tide-7\n");
    assert_eq!(
        ledger.read("stages/dev.toml").matches("copper-1.").count(),
        3,
        "each is encrypted for its own place"
    );
    for (arguments, code) in [
        ("add unit desk --like gate", 2),
        ("add unit x --like nowhere", 2),
        ("add unit x --swap a b", 2),
        ("add unit x --like desk --swap desk X --countersign prod", 0),
    ] {
        ledger.run(arguments).code(code);
    }
}

#[test]
fn a_unit_grows_entry_by_entry() {
    let ledger = TestLedger::demo();
    for (arguments, status) in [
        ("add unit fog-horn --owner harbour --uses mail --stages prod-*,test", 0),
        ("add variable fog-horn/loudness --type integer --default 90 --min 10 --max 120", 0),
        ("add variable fog-horn/pattern --one-of short,long --vary must --about Signal", 0),
        ("add variable fog-horn/code --secret --optional", 0),
        ("add variable fog-horn/tones --type list --default [\"c\",\"d\"]", 0),
        ("add connection fog-horn/switch --protocol tcp", 0),
        ("add endpoint fog-horn/weather", 0),
        ("add credential shared/horn-key --form token", 0),
        ("add instance fog-horn+spare --stages prod-north", 0),
        ("add group quiet --about Nights", 0),
    ] {
        ledger.run(arguments).code(status);
    }
    snapbox::assert_data_eq!(
        ledger.read("units/fog-horn.toml"),
        str![[r#"
owner = "harbour"
stages = ["prod-*", "test"]
uses = ["mail"]

[variables.loudness]
type = "integer"
default = 90
min = 10
max = 120

[variables.pattern]
vary = "must"
one_of = ["short", "long"]
about = "Signal"

[variables.code]
required = false
secret = true

[variables.tones]
type = "list"
default = ["c", "d"]

[connections.switch]
protocol = "tcp"

[endpoints.weather]

[instances.spare]
stages = ["prod-north"]

"#]]
    );
    ledger.run("get fog-horn+spare/loudness@prod-north").code(0).stdout_eq("90\n");
    ledger.run("list groups").code(0).stdout_eq(str![[r#"
group       stages                         about
guarded     staging prod-north prod-south  Stages whose secrets come from the strongroom
production  prod-north prod-south          What both production stages share
quiet       -                              Nights

"#]]);
    let (out, _) = written(&ledger.run("add variable fog-horn/last_word --json").code(0));
    let document: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!(document["missing"].as_array().unwrap().len(), 4, "{out}");
}

#[test]
fn what_is_there_or_cannot_be_is_refused() {
    let ledger = TestLedger::demo();
    let before: Vec<String> = ledger.files("").iter().map(|path| ledger.read(path)).collect();
    for (arguments, hint) in [
        ("unit ticket-desk", "already"),
        ("unit shared", "a meaning of its own"),
        ("unit a --uses mial", "did you mean"),
        ("stage test --class test", "already"),
        ("stage guarded --class test", "already"),
        ("stage x", "--class"),
        ("stage x --class tset", "tip"),
        ("stage x --like nowhere", "there is no stage"),
        ("group dev", "already"),
        ("instance ticket-desk+kiosk", "already"),
        ("instance nobody+x", "there is no unit"),
        ("instance ticket-desk", "UNIT+INSTANCE"),
        ("variable ticket-desk/mail.host", "UNIT/ENTRY"),
        ("variable ticket-desk/region", "already"),
        ("variable ticket-desk/events", "already"),
        ("variable ticket-desk+kiosk/x", "leave out"),
        ("variable ticket-desk/x --type integer --default y", "not a whole number"),
        ("variable ticket-desk/x --secret --default y", "secret"),
        ("variable ticket-desk/x --min 3", "min"),
        ("connection ticket-desk/x", "--protocol"),
        ("credential ticket-desk/x --form tokn", "tip"),
    ] {
        let (out, err) = written(&ledger.run(&format!("add {arguments}")).code(2));
        assert!(out.is_empty() && err.contains(hint), "{arguments}: {err}");
    }
    let files = ledger.files("");
    let after: Vec<String> =
        files.iter().filter(|path| !path.starts_with(".cledger")).map(|path| ledger.read(path)).collect();
    assert_eq!(before, after);
}

#[test]
fn what_comes_into_no_output_is_told_at_once_and_by_the_check() {
    let ledger = TestLedger::small();
    let (out, _) = written(&ledger.run("add variable desk/lamp --default on").code(0));
    assert_eq!(out, "added: desk/lamp, in units/desk.toml.\nIt comes into desk.env.\n");
    let closed = ledger
        .read("units/desk.toml")
        .replace("\"dotenv\"", "\"dotenv\"\nonly = [\"db\", \"hold\", \"lamp\", \"region\"]");
    ledger.write("units/desk.toml", closed);
    let (out, _) = written(&ledger.run("add variable desk/bell --default on").code(0));
    assert!(out.contains("not rendered: it comes into no output of the unit"), "{out}");
    let (_, err) = written(&ledger.run("check").code(0));
    let (out, _) = written(&ledger.run("check --form lines").code(0));
    assert!(out.contains("[in-no-output]") && out.contains("desk/bell"), "{out}{err}");
}
