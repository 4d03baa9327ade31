//! `set` and `unset`: one safe change of the files, and what it does.

use std::fs;
use std::process::Stdio;

use snapbox::str;

use crate::test_ledger::{SMALL, TestLedger, program, written};

#[test]
fn set_says_what_changes_and_touches_nothing_else() {
    let ledger = TestLedger::demo();
    let before = ledger.read("stages/test.toml");
    ledger
        .run("set fare-engine/listen.port@test=9090 ticket-desk/seat_hold@test=45s")
        .code(0)
        .stdout_eq(str![[r#"
setting                       before   after  in
fare-engine/listen.port@test  not set  9090   stages/test.toml
ticket-desk/seat_hold@test    30s      45s    stages/test.toml

4 effective values change
field                          before                                           after
fare-engine/listen.port@test   8070                                             9090
fare-engine/listen.url@test    tcp://fares.test.brackwater.example:8070         tcp://fares.test.brackwater.example:9090
ticket-desk/fare_service@test  http://fares.test.brackwater.example:8070/fares  http://fares.test.brackwater.example:9090/fares
ticket-desk/seat_hold@test     30s                                              45s

"#]]);
    let after = before.replace("value = \"30s\"", "value = \"45s\"").replace(
        "listen.host = \"fares.test.brackwater.example\"\n",
        "listen.host = \"fares.test.brackwater.example\"\nlisten.port = 9090\n",
    );
    assert_eq!(ledger.read("stages/test.toml"), after);
    ledger.run("set ticket-desk/seat_hold@test=45s").code(0).stdout_eq(str![[r#"
setting                     before  after  in
ticket-desk/seat_hold@test  45s     45s    stages/test.toml

No effective value changes.

"#]]);
    ledger.run("unset fare-engine/listen.port@test").code(0).stdout_eq(str![[r#"
setting                       before  after    in
fare-engine/listen.port@test  9090    not set  stages/test.toml

3 effective values change
field                          before                                           after
fare-engine/listen.port@test   9090                                             8070
fare-engine/listen.url@test    tcp://fares.test.brackwater.example:9090         tcp://fares.test.brackwater.example:8070
ticket-desk/fare_service@test  http://fares.test.brackwater.example:9090/fares  http://fares.test.brackwater.example:8070/fares

"#]]);
    assert_eq!(ledger.read("stages/test.toml"), before.replace("value = \"30s\"", "value = \"45s\""));
}

#[test]
fn every_form_of_a_setting_can_be_written() {
    let ledger = TestLedger::small();
    for (arguments, address, value) in [
        ("set desk/hold@dev=9m --until 2027-01-31", "desk/hold@dev", "9m\n"),
        ("set desk/db.port@dev=5433", "desk/db.port@dev", "5433\n"),
        ("set desk/hold@default=7m --countersign prod", "desk/hold@prod", "2m\n"),
        ("unset desk/hold@prod --countersign prod", "desk/hold@prod", "7m\n"),
        (
            "set desk/db.options@dev={sslmode=\"require\"}",
            "desk/db.options@dev",
            "{\"sslmode\":\"require\"}\n",
        ),
        ("set desk/hold@dev=${unit.name}", "desk/db.user@dev", "dev\n"),
    ] {
        ledger.run(arguments).code(0);
        ledger.run(&format!("get {address}")).code(0).stdout_eq(value);
    }
    ledger.run("set desk/db.database@prod --absent --countersign prod").code(0);
    ledger.run("set shared/db.password@dev --from env:DB_DEV").code(0);
    // One secret in several places at once, read once.
    let several =
        "set desk/db.password@dev shared/db.password@prod --stdin --plain-secrets --countersign prod";
    ledger.command(several).stdin("neap tide\n").assert().code(0);
    for file in ["stages/dev.toml", "stages/prod.toml"] {
        assert!(ledger.read(file).contains("password = \"neap tide\""), "{}", ledger.read(file));
    }
    let run = ledger.command("set desk/db.password@dev --stdin --plain-secrets").stdin("spring tide\n");
    let (out, _) = written(&run.assert().code(0));
    assert!(!out.contains("spring tide"), "{out}");
    ledger
        .command("set desk/region@dev --why")
        .arg("on trial")
        .arg("--from")
        .arg("env:REGION")
        .assert()
        .code(0);
    snapbox::assert_data_eq!(
        ledger.read("stages/dev.toml"),
        str![[r#"
[shared.db]
host = "db.dev.example"
user = "dev"
password = { from = "env:DB_DEV" }

[units.desk]
region = { from = "env:REGION", why = "on trial" }
hold = { value = "${unit.name}", until = 2027-01-31 }
db.port = 5433
db.options = { sslmode = "require" }
db.password = "spring tide"

"#]]
    );
    snapbox::assert_data_eq!(
        ledger.read("stages/prod.toml"),
        str![[r#"
[shared.db]
host = "db.prod.example"
user = "ferry"
password = "neap tide"

[units.desk]
region = "south"
db.database = { absent = true }

"#]]
    );
    snapbox::assert_data_eq!(
        ledger.read("units/desk.toml"),
        str![[r#"
uses = ["db"]
[variables.hold]
type = "duration"
default = "7m"
[variables.region]
vary = "must"
one_of = ["north", "south"]
[[output]]
path = "desk.env"
format = "dotenv"

"#]]
    );
}

#[test]
fn nothing_is_written_when_something_is_wrong() {
    let ledger = TestLedger::demo();
    let before: Vec<String> = ledger.files("").iter().map(|path| ledger.read(path)).collect();
    let refused = [
        ("ticket-desk/seat_hodl@test=1m", 2, "did you mean `ticket-desk/seat_hold`?"),
        ("ticket-desk/seat_hold@tset=1m", 2, "did you mean `test`?"),
        ("ticket-desk/seat_hold@test=soon", 2, "is not a duration"),
        ("ticket-desk/seat_hold@test=2h", 2, "at most 1h"),
        ("ticket-desk/currency@test=EUR", 2, "cledger set ticket-desk/currency@default=…"),
        ("ticket-desk/bookings-db.url@test=a://b", 2, "derived"),
        ("ticket-desk/bookings-db@test=x", 2, "several fields"),
        ("*/seat_hold@test=1m", 2, "a pattern"),
        ("ticket-desk/card-terminal.token@test=x", 4, "--stdin"),
        ("harbour-gate/lanes@dev=2", 2, "does not belong"),
        ("ticket-desk/seat_hold@prod-north=1m", 4, "--why TEXT"),
        ("ticket-desk/seat_hold@prod-north=1m --why so", 4, "--countersign prod-north"),
        ("ticket-desk/seat_hold@production=1m --why so", 4, "--countersign prod-north,prod-south"),
        ("ticket-desk/seat_hold@default=6m", 4, "--countersign prod-north,prod-south"),
        ("ticket-desk/seat_hold@test", 2, "needs exactly one value"),
        ("ticket-desk/seat_hold@test=1m --absent", 2, "needs exactly one value"),
        ("ticket-desk/seat_hold@test=1m --until soon", 2, "2027-01-31"),
        // All or nothing: the first of two would do.
        ("ticket-desk/seat_hold@test=1m ticket-desk/seat_hold@dev=soon", 2, "is not a duration"),
    ];
    for (arguments, status, hint) in refused {
        let (out, err) = written(&ledger.run(&format!("set {arguments}")).code(status));
        assert!(out.is_empty() && err.contains(hint), "{arguments}: {err}");
    }
    ledger.run("unset ticket-desk/seat_hold@staging").code(2).stderr_eq(str![[r#"
error: `ticket-desk/seat_hold@staging` is not set there, so it cannot be taken out
help: `cledger show` says where a value comes from

"#]]);
    let files = ledger.files("");
    let after: Vec<String> =
        files.iter().filter(|path| !path.starts_with(".cledger")).map(|path| ledger.read(path)).collect();
    assert_eq!(before, after);
}

#[test]
fn a_new_file_is_made_where_none_is_and_goes_with_its_last_setting() {
    let ledger = TestLedger::demo();
    let path = "stages/prod-south/quay-screens.toml";
    ledger.run("set quay-screens/brightness@prod-south=70 --countersign prod-south --why dusk").code(0);
    assert_eq!(ledger.read(path), "brightness = { value = 70, why = \"dusk\" }\n");
    ledger.run("unset quay-screens/brightness@prod-south --countersign prod-south --why dawn").code(0);
    assert!(!ledger.path(path).exists() && ledger.path("stages/prod-south").exists());
}

#[test]
fn fifty_at_once_lose_no_change() {
    let ledger = TestLedger::small();
    let mut contract = SMALL[2].1.to_owned();
    for number in 0..50 {
        contract += &format!("[variables.v{number}]\ntype = \"integer\"\ndefault = 0\n");
    }
    ledger.write("units/desk.toml", contract);
    let mut children: Vec<std::process::Child> = (0..50)
        .map(|number| {
            std::process::Command::new(snapbox::cmd::cargo_bin!("cledger"))
                .args(["set", &format!("desk/v{number}@dev={}", number + 1), "--wait", "300"])
                .env("CLEDGER_STATE", ledger.state())
                .current_dir(ledger.path(""))
                .stdout(Stdio::null())
                .spawn()
                .unwrap()
        })
        .collect();
    for child in &mut children {
        assert!(child.wait().unwrap().success());
    }
    for number in [0, 7, 49] {
        ledger.run(&format!("get desk/v{number}@dev")).code(0).stdout_eq(format!("{}\n", number + 1));
    }
    let set = ledger.read("stages/dev.toml").lines().filter(|line| line.starts_with('v')).count();
    assert_eq!(set, 50);
}

#[test]
fn a_busy_ledger_is_waited_for_and_then_said_to_be_busy() {
    let ledger = TestLedger::small();
    ledger.run("set desk/hold@dev=1m").code(0);
    let lock = fs::File::options().write(true).open(ledger.path(".cledger/lock")).unwrap();
    lock.lock().unwrap();
    ledger.run("set desk/hold@dev=2m --wait 0").code(3).stdout_eq("").stderr_eq(str![[r#"
error: somebody else is changing the ledger, and was not done within 0 s
help: try again, or wait longer: --wait SECONDS

"#]]);
    ledger.run("get desk/hold@dev").code(0).stdout_eq("1m\n");
    drop(lock);
    ledger.run("set desk/hold@dev=2m --wait 0").code(0);
    assert!(ledger.read(".cledger/.gitignore").contains('*'));
}

#[test]
fn the_result_is_a_document_for_programs() {
    let ledger = TestLedger::small();
    let (out, _) = written(&ledger.run("set desk/hold@dev=1m shared/db.user@dev=x --json").code(0));
    let document: serde_json::Value = serde_json::from_str(&out).unwrap();
    snapbox::assert_data_eq!(
        serde_json::to_string_pretty(&document).unwrap(),
        str![[r#"
{
  "caused": [],
  "cured": [],
  "effects": [
    {
      "address": "desk/db.user@dev",
      "after": {
        "instead": null,
        "secret": false,
        "value": "x"
      },
      "before": {
        "instead": null,
        "secret": false,
        "value": "dev"
      }
    },
    {
      "address": "desk/db.url@dev",
      "after": {
        "instead": null,
        "secret": true,
        "value": null
      },
      "before": {
        "instead": null,
        "secret": true,
        "value": null
      }
    },
    {
      "address": "desk/hold@dev",
      "after": {
        "instead": null,
        "secret": false,
        "value": "1m"
      },
      "before": {
        "instead": null,
        "secret": false,
        "value": "5m"
      }
    }
  ],
  "format": 1,
  "settings": [
    {
      "address": "desk/hold@dev",
      "after": "1m",
      "before": null,
      "file": "stages/dev.toml"
    },
    {
      "address": "shared/db.user@dev",
      "after": "x",
      "before": "dev",
      "file": "stages/dev.toml"
    }
  ],
  "written": true
}
"#]]
    );
    program().args(["set", "--help"]).assert().code(0);
}

#[test]
fn settings_are_changed_in_every_form_that_they_may_have() {
    let ledger = TestLedger::small();
    let unit = "\n[variables.labels]\ntype = \"map\"\nrequired = false\n";
    ledger.write("units/desk.toml", ledger.read("units/desk.toml") + unit);
    let stage = "[units.desk.hold]\nvalue = \"5m\" # for now\nwhy = \"slow\"\n\n[units.desk]\nregion.value = '''\nold plate'''\n\
                 region.why = \"trial\"\n\n[units.desk.labels]\na = \"1\"\nb = \"plate ${region}\"\n\n\
                 [shared.db]\nhost = \"db.dev.example\"\nuser = \"ferry\"\npassword = \"low-tide-dev\"\n";
    ledger.write("stages/dev.toml", stage);
    ledger.run("set desk/hold@dev=9m desk/region@dev=north").code(0);
    let changed = ledger.read("stages/dev.toml");
    assert_eq!(changed, stage.replace("5m", "9m").replace("'''\nold plate'''", "\"north\""), "{changed}");
    ledger.command("set").arg("desk/labels@dev={ b = \"2\", c = \"3\" }").assert().code(0);
    assert!(ledger.read("stages/dev.toml").contains("[units.desk.labels]\nb = \"2\"\nc = \"3\"\n"));
    ledger.write("stages/dev.toml", stage);
    // What stands inside of references is another one's name.
    let (out, _) = written(&ledger.run("replace desk@dev --swap region shore --write").code(0));
    assert!(out.contains("stays, since it stands inside of references:\n  desk/labels@dev"), "{out}");
    assert_eq!(ledger.read("stages/dev.toml"), stage);
    ledger.run("replace desk@dev --swap plate plank --write").code(0);
    assert_eq!(
        ledger.read("stages/dev.toml"),
        stage.replace("'''\nold plate'''", "\"old plank\"").replace("plate $", "plank $")
    );
    ledger.run("unset desk/hold@dev desk/region@dev desk/labels@dev").code(0);
    let left = ledger.read("stages/dev.toml");
    assert!(left.starts_with("[shared.db]\n") || left.starts_with("[units.desk]\n\n[shared.db]"), "{left}");
}

#[test]
fn a_table_of_values_goes_out_and_what_was_changed_in_it_comes_back() {
    let ledger = TestLedger::small();
    let (table, _) = written(&ledger.run("matrix desk --csv").code(0));
    ledger.write("table.csv", &table);
    ledger.run("set --from-csv table.csv").code(0).stdout_eq("Nothing is changed in the table.\n");
    let line = |name: &str| table.lines().find(|line| line.starts_with(&format!("desk/{name},"))).unwrap();
    let (hold, region, password, url) = (line("hold"), line("region"), line("db.password"), line("db.url"));
    assert!(hold == "desk/hold,5m,2m" && region == "desk/region,north,south", "{table}");
    assert!(password.ends_with(",(secret),(secret)") && url.ends_with(",(secret),(secret)"), "{table}");
    let changed = table
        .replace(hold, "desk/hold,7m,(absent)")
        .replace(region, "desk/region,,\"a ${b}, \"\"c\"\"\"")
        .replace(password, "desk/db.password,typed,(secret)")
        .replace(line("db.port"), "desk/db.port,far,6000");
    ledger.write("table.csv", changed);
    let before = (ledger.read("stages/dev.toml"), ledger.read("stages/prod.toml"));
    let (out, _) = written(&ledger.run("set --from-csv table.csv").code(1));
    for told in [
        "passed over:",
        "desk/db.password@dev: it is a secret: cledger set desk/db.password@dev",
        "the value for `desk/db.port@dev` is not a port",
        "desk/hold@dev      not set  7m",
        "desk/hold@prod     2m       absent",
        "desk/db.port@prod  not set  6000",
        "Nothing is written yet. To do it, add --write.",
    ] {
        assert!(out.contains(told), "{told}: {out}");
    }
    assert!(!out.contains("typed") && !out.contains("desk/region@dev"), "{out}");
    assert_eq!((ledger.read("stages/dev.toml"), ledger.read("stages/prod.toml")), before);
    ledger.run("set --from-csv table.csv --write").code(4);
    ledger.run("set --from-csv table.csv --write --countersign prod").code(1);
    ledger.run("get desk/region@prod").code(0).stdout_eq("a ${b}, \"c\"\n");
    let (again, _) = written(&ledger.run("matrix desk --csv").code(0));
    assert!(
        again.contains("desk/hold,7m,(absent)\n")
            && again.contains("desk/region,north,\"a ${b}, \"\"c\"\"\"\n")
    );
    for (text, message) in [
        ("", "it is empty"),
        ("entry,dev\n", "its first line does not begin with `field`"),
        ("field,dv\n", "table.csv:1: there is no stage `dv`"),
        ("field,dev,dev\n", "`dev` stands in its first line twice"),
        ("field,dev\ndesk/nope,1\n", "table.csv:2: `desk` has no entry `nope`"),
        ("field,dev\ndesk/hold\n", "is no table of values"),
    ] {
        ledger.write("table.csv", text);
        let (_, err) = written(&ledger.run("set --from-csv table.csv --write").code(2));
        assert!(err.contains(message), "{text}: {err}");
    }
}
