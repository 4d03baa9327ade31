//! `show` and `get`: effective values and where they come from.

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

#[test]
fn show_has_every_value_with_its_origin_and_what_is_missing() {
    let ledger = TestLedger::demo();
    ledger
        .run_in_80("show ticket-desk+kiosk@prod-north")
        .code(0)
        .stdout_eq(str![[r#"
ticket-desk+kiosk in prod-north (class production)

prod-north  stages/prod-north.toml
guarded     groups/guarded.toml
production  groups/production.toml
default     shared.toml, units/ticket-desk.toml

entry                 value                                        from
bookings-db.host      db.north.brackwater.example                  prod-north:2
bookings-db.port      5432                                         default
bookings-db.database  bookings                                     default
bookings-db.user      ferries                                      production:2
bookings-db.password  (secret)                                     guarded:3
bookings-db.options   {"connect_timeout":"10",                     prod-north:3
                      "sslmode":"verify-full"}
bookings-db.url       (secret)                                     derived
card-terminal.token   (secret)                                     guarded:12
currency              BRK                                          default
events.host           mq.north.brackwater.example                  prod-north:6
events.port           5672                                         default
events.path           ferries                                      default
events.user           ferries                                      production:5
events.password       (secret)                                     guarded:6
events.url            (secret)                                     derived
events.prefetch       100                                          production:6
fare_service          http://fares.north.brackwater.example:8070/  default
                      fares
languages             ["en","de","fr","nl"]                        production:15
region                north                                        prod-north:16
seat_hold             2m                                           prod-north:19
tide-api.base         https://tides.brackwater.example/v2          prod-north:13
tide-api.timeout      10s                                          production:12
tide-api.auth         bearer                                       default
tide-api.token        (secret)                                     guarded:9

5 optional fields have no value.

"#]])
        .stderr_eq("");
    ledger
        .run_in_80("show tide-watch@test")
        .code(0)
        .stdout_eq(str![[r#"
tide-watch in test (class test)

test     stages/test.toml
default  shared.toml, units/tide-watch.toml

entry             value                              from
alarm_to          ["watch@test.brackwater.example"]  test:33
events.host       mq.test.brackwater.example         test:7
events.port       5672                               default
events.path       ferries                            default
events.user       test                               test:8
events.password   (secret)                           test:9
events.url        (secret)                           derived
events.prefetch   wrong-type                         write a whole number
                                                     without quotes, or refer
                                                     to such a value
look_ahead        reference-circle                   give one of these fields a
                                                     value without a reference
low_water         1.8                                default
mail.host         mail.test.brackwater.example       test:13
mail.port         25                                 default
mail.url          smtp://mail.test.brackwater        derived
                  .example:25
mail.sender       no-reply@mail.test.brackwater      default
                  .example
poll_every        reference-circle                   give one of these fields a
                                                     value without a reference
tide-api.base     https://tides.test.brackwater      test:16
                  .example/v2
tide-api.timeout  5s                                 default
tide-api.auth     bearer                             default
tide-api.token    (secret)                           test:17

7 optional fields have no value.

missing: 3 fields lack the value needed; `cledger check` says more.

"#]])
        .stderr_eq("");
    ledger
        .run("show ticket-desk/seat_hold@test")
        .code(0)
        .stdout_eq(str![[r#"
ticket-desk in test (class test)

entry      value  from
seat_hold  30s    stages/test.toml:21

"#]])
        .stderr_eq("");
}

#[test]
fn show_takes_the_default_stage_and_says_so() {
    let ledger = TestLedger::small();
    ledger
        .run("show desk")
        .code(0)
        .stdout_eq(str![[r#"
desk in dev (class development)
The stage comes from default_stage in ledger.toml.

dev      stages/dev.toml
default  shared.toml, units/desk.toml

entry        value           from
db.host      db.dev.example  dev:2
db.port      5432            default
db.database  tides           default
db.user      dev             dev:3
db.password  (secret)        dev:4
db.url       (secret)        derived
hold         5m              default
region       north           dev:7

1 optional field has no value.

"#]])
        .stderr_eq(str![]);
    ledger
        .command("get desk/region")
        .env("CLEDGER_STAGE", "dev")
        .assert()
        .code(0)
        .stdout_eq(str![[r#"
north

"#]])
        .stderr_eq(str![[r#"
stage dev, from CLEDGER_STAGE

"#]]);
    ledger.command("get desk/region").env("CLEDGER_STAGE", "prod").assert().code(4).stdout_eq("").stderr_eq(
        str![[r#"
error: CLEDGER_STAGE names `prod`, a production stage, which is never taken unless it is named
help: write @prod behind the address

"#]],
    );
    ledger
        .run("get desk/region --stage prod")
        .code(0)
        .stdout_eq(str![[r#"
south

"#]])
        .stderr_eq("");
    ledger.run("get desk/region@dev --stage prod").code(2).stdout_eq("").stderr_eq(str![[r#"
error: the address names stage `dev`, and --stage `prod`

"#]]);
}

#[test]
fn get_prints_the_bare_value() {
    let ledger = TestLedger::small();
    for (address, value) in [
        ("desk/hold@dev", "5m\n"),
        ("desk/hold@prod", "2m\n"),
        ("desk/db.port@dev", "5432\n"),
        ("shared/db.host@prod", "db.prod.example\n"),
    ] {
        ledger.run(&format!("get {address}")).code(0).stdout_eq(value).stderr_eq("");
    }
}

#[test]
fn get_says_why_there_is_no_value() {
    let ledger = TestLedger::with([
        ("ledger.toml", "format = 1\nname = \"Gaps\"\n[[stage]]\nname = \"dev\"\nclass = \"test\"\n"),
        (
            "units/desk.toml",
            "[variables.unset]\n[variables.absent]\n[variables.optional]\nrequired = false\n\
             [variables.wrong]\ntype = \"integer\"\n[variables.needs]\ndefault = \"${unset}\"\n\
             [variables.fetched]\n[variables.open]\n",
        ),
        (
            "stages/dev.toml",
            "[units.desk]\nabsent = { absent = true }\nwrong = \"12\"\nfetched = { from = \"env:NOWHERE\" }\n\
             open = \"${unknown}\"\n",
        ),
    ]);
    ledger.run("get desk/unset@dev").code(1).stdout_eq("").stderr_eq(str![[r#"
error: `unset` has no value in `dev`
help: cledger set desk/unset@dev=…

"#]]);
    ledger.run("get desk/absent@dev").code(1).stdout_eq("").stderr_eq(str![[r#"
error: `desk/absent@dev` has no value: it is absent on purpose
help: set it in the stage to give it one

"#]]);
    ledger.run("get desk/optional@dev").code(1).stdout_eq("").stderr_eq(str![[r#"
error: `desk/optional@dev` has no value, and needs none
help: set it in the stage to give it one

"#]]);
    ledger.run("get desk/wrong@dev").code(1).stdout_eq("").stderr_eq(str![[r#"
error: the value of `wrong` has the wrong type: it is text, and an integer is needed
help: write a whole number without quotes, or refer to such a value

"#]]);
    ledger.run("get desk/needs@dev").code(1).stdout_eq("").stderr_eq(str![[r#"
error: `needs` has no value in `dev`: it refers to desk/unset@dev, which has no value
help: give desk/unset@dev a value, or write another one here

"#]]);
    ledger.run("get desk/fetched@dev").code(1).stdout_eq("").stderr_eq(str![[r#"
error: `fetched` has no value in `dev`: the environment variable `NOWHERE` is not set
help: put it there, or write the value another way

"#]]);
    ledger.run("get desk/open@dev").code(1).stdout_eq("").stderr_eq(str![[r#"
error: desk/open@dev → `${unknown}` names nothing: `desk` has no entry `unknown`
help: mend the reference, or write `$${` for a literal `${`

"#]]);
}

#[test]
fn unknown_names_are_answered_with_the_nearest() {
    let ledger = TestLedger::small();
    ledger.run("show dsek@dev").code(2).stdout_eq("").stderr_eq(str![[r#"
error: there is no unit `dsek`
help: did you mean `desk`?

"#]]);
    ledger.run("show desk@dve").code(2).stdout_eq("").stderr_eq(str![[r#"
error: there is no stage `dve`
help: did you mean `dev`?

"#]]);
    ledger.run("show desk+kiosk@dev").code(2).stdout_eq("").stderr_eq(str![[r#"
error: unit `desk` has no instance `kiosk`
help: `desk` has no instances

"#]]);
    ledger.run("get desk/hodl@dev").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `desk` has no entry `hodl`
help: did you mean `desk/hold`?

"#]]);
    ledger.run("get desk/db.hots@dev").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `db` of `desk` has no field `hots`
help: did you mean `desk/db.host`?

"#]]);
    ledger.run("get desk/db@dev").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `desk/db` has several fields
help: name one of host, port, database, user, password, options, url

"#]]);
    ledger.run("get desk/hold.x@dev").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `hold` of `desk` has no field `x`
help: it has no fields: write `desk/hold`

"#]]);
    let demo = TestLedger::demo();
    demo.run("show harbour-gate@dev").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `harbour-gate` does not belong to stage `dev`
help: it belongs to test, prod-north, prod-south

"#]]);
}

#[test]
fn assumptions_are_stronger_than_settings_for_one_run() {
    let ledger = TestLedger::small();
    ledger.run("get desk/hold@prod --assume desk/hold=9m").code(0).stdout_eq("9m\n");
    ledger.run("get desk/hold@prod --assume desk/hold@dev=9m").code(0).stdout_eq("2m\n");
    ledger.run("show desk/hold@prod --assume desk/hold=9m").code(0).stdout_eq(str![[r#"
desk in prod (class production)

entry  value  from
hold   9m     --assume

"#]]);
    ledger.run("get desk/db.url@dev --assume shared/db.host=${stage.name}.example").code(4).stderr_eq(str![
        [r#"
error: `desk/db.url@dev` is a secret, and is not shown
help: add --unmask, or --unmask=always in a pipe

"#]
    ]);
    ledger
        .run("get desk/db.host@dev --assume shared/db.host=${stage.name}.example")
        .code(0)
        .stdout_eq("dev.example\n");
    ledger.run("get desk/hold@dev --assume desk/hold=soon").code(2).stderr_eq(str![[r#"
error: the value for `desk/hold` is not a duration like "250ms", "30s" or "1h30m"

"#]]);
    ledger.run("get desk/hold@dev --assume desk/hodl=1m").code(2).stderr_eq(str![[r#"
error: there is no entry `hodl`; the nearest is `hold`

"#]]);
    ledger.run("get desk/hold@dev --assume desk/db.url=x://y").code(2).stderr_eq(str![[r#"
error: `desk/db.url` cannot be assumed: it is derived from other fields

"#]]);
    ledger.run("get desk/hold@dev --assume hold").code(2).stderr_eq(str![[r#"
error: --assume hold has no value
help: write ADDRESS=VALUE, or add --stdin

"#]]);
}

#[test]
fn results_can_be_cut_short_by_their_reader() {
    let ledger = TestLedger::small();
    let (out, _) = written(&ledger.run("get desk/hold@dev -q"));
    assert_eq!(out, "5m\n");
    let command = format!("{} show desk@dev | true", snapbox::cmd::cargo_bin!("cledger").display());
    let mut shell = std::process::Command::new("bash");
    let status =
        shell.args(["-o", "pipefail", "-c", &command]).current_dir(ledger.path("")).status().unwrap();
    assert_eq!(status.code(), Some(0));
}
