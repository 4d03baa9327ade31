//! `init`: a small ledger that teaches.

use snapbox::str;

use crate::test_ledger::{TestLedger, program, written};

#[test]
fn init_writes_a_ledger_that_works_at_once() {
    let ledger = TestLedger::with([]);
    ledger
        .run("init new --name Tides --stages dev,qa-2,prod,live-south")
        .code(0)
        .stdout_eq(str![[r#"
Made the ledger `Tides` in new:
  ledger.toml
  .gitignore
  shared.toml
  units/example.toml
  stages/dev.toml
  stages/qa-2.toml
  stages/prod.toml
  stages/live-south.toml

The classes of the stages, as they were said or as their names tell; mend them in ledger.toml:
  dev          development
  qa-2         test
  prod         production
  live-south   production

Deliveries are recorded in .cledger/, on this machine alone. A team shares a daybook in PostgreSQL: [daybook] store = "postgres" in ledger.toml.

Next: cledger -C new check, then cledger -C new show example

"#]])
        .stderr_eq("");
    snapbox::assert_data_eq!(
        ledger.read("new/ledger.toml"),
        str![[r##"
# A ledger holds every value that differs, or must not differ, between the stages of each unit.
format = 1
name = "Tides"
default_stage = "dev"   # meant where no stage is named; never of class production

# The stages, in the order in which changes move up. Their settings are in stages/.

[[stage]]
name = "dev"
class = "development"   # or "development", "test", "production"

[[stage]]
name = "qa-2"
class = "test"
after = ["dev"]

[[stage]]
name = "prod"
class = "production"
after = ["qa-2"]

[[stage]]
name = "live-south"
class = "production"
after = ["prod"]

"##]]
    );
    ledger.run("-C new check").code(0).stdout_eq(str![[r#"
unit     dev        qa-2  prod  live-south
example  1 warning  ok    ok    ok

shared entries and the ledger
warning[plain-secret]: `password` of `main-db` is a secret, and stands here in plain text
 --> stages/dev.toml:7:12
  |
7 | password = …
  |            ^ shared/main-db.password@dev
  |
  = help: cledger key protect @dev --write, or set it --from env:NAME

1 warning in 1 unit.

"#]]);
    ledger.run("-C new show example@dev").code(0).stdout_eq(str![[r#"
example in dev (class development)

dev      stages/dev.toml
default  shared.toml, units/example.toml

entry             value                               from
health_url        https://example.dev.example/health  default
log_level         info                                default
main-db.host      localhost                           dev:5
main-db.port      5432                                default
main-db.database  main                                default
main-db.user      dev                                 dev:6
main-db.password  (secret)                            dev:7
main-db.url       (secret)                            derived
public_url        https://example.dev.example         dev:11

1 optional field has no value.

"#]]);
}

#[test]
fn init_never_writes_over_a_ledger() {
    let ledger = TestLedger::small();
    let before = ledger.read("ledger.toml");
    ledger.run("init . --name Other --stages dev").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `.` holds a ledger already
help: cledger -C . list

"#]]);
    assert_eq!(ledger.read("ledger.toml"), before);
}

#[test]
fn init_refuses_names_that_cannot_be() {
    let ledger = TestLedger::with([]);
    ledger.run("init new --name X --stages dev,Test").code(2).stderr_eq(str![[r#"
error: invalid value 'Test' for '--stages <STAGE,…>': names are made of a-z, 0-9, `_` and `-`

For more information, try '--help'.

"#]]);
    ledger.run("init new --name X --stages dev,dev").code(2).stderr_eq(str![[r#"
error: `dev` is there twice
help: name each stage once

"#]]);
    ledger.run("init new --name X --stages shared").code(2).stderr_eq(str![[r#"
error: `shared` has a meaning of its own and cannot name a stage

"#]]);
    ledger.run("init new --name X --stages dev=production-ish").code(2).stderr_eq(str![[r#"
error: invalid value 'dev=production-ish' for '--stages <STAGE,…>': names are made of a-z, 0-9, `_` and `-`

For more information, try '--help'.

"#]]);
    assert!(!ledger.path("new").exists());
}

#[test]
fn an_empty_ledger_has_what_was_said_and_nothing_else() {
    let folder = tempfile::TempDir::new().unwrap();
    let init = |dir: &str, more: &[&str]| {
        let arguments =
            ["init", dir, "--name", "x", "--stages", "blue,green"].into_iter().chain(more.iter().copied());
        program().current_dir(folder.path()).args(arguments).assert()
    };
    let (out, _) = written(&init("a", &["--class", "blue=test,green=production", "--empty"]).code(0));
    assert!(out.contains("blue         test\n") && out.contains("green        production\n"), "{out}");
    assert!(!out.contains("the careful choice") && out.ends_with("or add unit UNIT\n"), "{out}");
    let made = std::fs::read_dir(folder.path().join("a")).unwrap().map(|it| it.unwrap().file_name());
    let mut made: Vec<_> = made.collect();
    made.sort();
    assert_eq!(made, [".gitignore", "ledger.toml"]);
    program().current_dir(folder.path().join("a")).arg("check").assert().code(0);

    init("full", &["--class", "blue=test"]).code(0);
    let in_full =
        |line: &str| program().current_dir(folder.path().join("full")).args(line.split(' ')).assert().code(0);
    in_full("remove example shared/main-db --write --countersign green");
    let (out, _) = written(&in_full("check"));
    assert_eq!(out, "ok: no findings in 0 units.\n", "what init wrote goes without a trace");

    for (class, message) in [
        ("blue", "does not say a class"),
        ("red=test", "there is no stage `red`"),
        ("blue=test,blue=production", "is there twice"),
        ("blue=staging", "there is no class `staging`"),
    ] {
        let (_, err) = written(&init("b", &["--class", class]).code(2));
        assert!(err.contains(message), "{class}: {err}");
    }
    assert!(!folder.path().join("b").exists());
}
