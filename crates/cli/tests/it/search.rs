//! `search` and `replace`: what is found by what it is and says, and what takes its place.

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

/// The addresses that a search finds.
fn found(ledger: &TestLedger, arguments: &[&str]) -> Vec<String> {
    let (out, _) = written(&ledger.command("search --json").args(arguments).assert().code(0));
    let document: serde_json::Value = serde_json::from_str(&out).unwrap();
    let listed = document.get("settings").or(document.get("values")).unwrap().as_array().unwrap();
    listed.iter().map(|one| one["address"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn conditions_combine() {
    let ledger = TestLedger::demo();
    let cases: [(&[&str], &[&str]); 15] = [
        (&["--equals", "12"], &["crew-roster/rest_hours@prod-south"]),
        (&["*@test", "--contains", "fares."], &["fare-engine/listen.host@test"]),
        (&["--matches", "^9\\d+$"], &[]),
        (&["--matches", "^\\d+s$", "--class", "production"], &["ticket-desk+kiosk/seat_hold@prod-south"]),
        (
            &["--type", "duration", "--under", "45s"],
            &[
                "shared/tide-api.timeout@default",
                "shared/tide-api.timeout@production",
                "quay-screens/refresh@default",
                "ticket-desk/seat_hold@test",
            ],
        ),
        (&["--type", "integer", "--over", "150"], &["night-mail/batch@default"]),
        (&["--with-why", "--kind", "variable"], &["ticket-desk/seat_hold@test"]),
        (&["--past-until", "--today", "2027-01-31"], &[]),
        (&["--past-until", "--today", "2027-02-01"], &["ticket-desk/seat_hold@test"]),
        (&["--layer", "group", "--kind", "connection", "--equals", "587"], &["shared/mail.port@production"]),
        (&["--layer", "default", "--contains", "low tide"], &[]),
        (
            &["--layer", "follow", "--effective", "quay-screens/events.*", "--no-secret"],
            &["quay-screens/events.user@prod-south", "quay-screens/events.prefetch@prod-south"],
        ),
        (&["--secret", "*/badge-reader.*@dev"], &["crew-roster/badge-reader.password@dev"]),
        (&["--no-secret", "*/badge-reader.*@dev"], &["crew-roster/badge-reader.user@dev"]),
        (
            &["--owner", "crew", "--effective", "--equals", "587", "*@prod-south"],
            &["crew-roster/mail.port@prod-south"],
        ),
    ];
    let mut wrong = String::new();
    for (arguments, expected) in cases {
        let found = found(&ledger, arguments);
        if found != expected {
            wrong += &format!("{arguments:?} finds {found:?}\n");
        }
    }
    assert_eq!(wrong, "");
}

#[test]
fn search_shows_where_and_why_and_no_secret() {
    let ledger = TestLedger::demo();
    ledger
        .run("search --with-why")
        .code(0)
        .stdout_eq(str![[r#"
address                             says  in                         why
shared/tide-api.timeout@production  10s   groups/production.toml:12  the tide service is slow at spring tide
ticket-desk/seat_hold@test          30s   stages/test.toml:21        short, for the booking race test

2 settings.

"#]])
        .stderr_eq("");
    ledger.run("search --equals quayside").code(0).stdout_eq(str![[r#"
address                           says      in                  why
shared/bookings-db.password@test  (secret)  stages/test.toml:4

1 setting.

"#]]);
    ledger.run("search --effective --equals ferries *@prod-north").code(0).stdout_eq(str![[r#"
address                                        value    from
crew-roster/bookings-db.user@prod-north        ferries  groups/production.toml:2
fare-engine/bookings-db.user@prod-north        ferries  groups/production.toml:2
harbour-gate/events.path@prod-north            ferries  default shared.toml:12
harbour-gate/events.user@prod-north            ferries  groups/production.toml:5
night-mail/bookings-db.user@prod-north         ferries  groups/production.toml:2
quay-screens/events.path@prod-north            ferries  default shared.toml:12
quay-screens/events.user@prod-north            ferries  groups/production.toml:5
ticket-desk/bookings-db.user@prod-north        ferries  groups/production.toml:2
ticket-desk/events.path@prod-north             ferries  default shared.toml:12
ticket-desk/events.user@prod-north             ferries  groups/production.toml:5
ticket-desk+kiosk/bookings-db.user@prod-north  ferries  groups/production.toml:2
ticket-desk+kiosk/events.path@prod-north       ferries  default shared.toml:12
ticket-desk+kiosk/events.user@prod-north       ferries  groups/production.toml:5
tide-watch/events.path@prod-north              ferries  default shared.toml:12
tide-watch/events.user@prod-north              ferries  groups/production.toml:5

15 effective values.

"#]]);
    ledger.run("search --matches (").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `(` is no regular expression: unclosed group
help: put a backslash before a character that is meant as it is

"#]]);
    ledger.run("search --type string").code(2).stdout_eq("");
}

#[test]
fn replace_shows_first_and_writes_when_told() {
    let ledger = TestLedger::demo();
    let before: Vec<String> = ledger.files("stages").iter().map(|path| ledger.read(path)).collect();
    ledger.run("replace fare-engine@staging --swap .staging. .stage-two.").code(0).stdout_eq(str![[r#"
setting                          before                            after                               in
fare-engine/listen.host@staging  fares.staging.brackwater.example  fares.stage-two.brackwater.example  stages/staging.toml:19

3 effective values change
field                             before                                              after
fare-engine/listen.host@staging   fares.staging.brackwater.example                    fares.stage-two.brackwater.example
fare-engine/listen.url@staging    tcp://fares.staging.brackwater.example:8070         tcp://fares.stage-two.brackwater.example:8070
ticket-desk/fare_service@staging  http://fares.staging.brackwater.example:8070/fares  http://fares.stage-two.brackwater.example:8070/fares

nothing written: 1 value would change; --write does it.

"#]]);
    ledger.run("replace */seat_hold --to 2h").code(0).stdout_eq(str![[r#"
setting                                 before  after  in
ticket-desk/seat_hold@default           5m      2h     units/ticket-desk.toml:12
ticket-desk/seat_hold@test              30s     2h     stages/test.toml:21
ticket-desk+kiosk/seat_hold@prod-north  2m      2h     stages/prod-north.toml:19
ticket-desk+kiosk/seat_hold@prod-south  90s     2h     stages/prod-south/ticket-desk+kiosk.toml:1

7 effective values change
field                                   before  after
ticket-desk/seat_hold@dev               5m      2h
ticket-desk/seat_hold@test              30s     2h
ticket-desk/seat_hold@staging           5m      2h
ticket-desk/seat_hold@prod-north        5m      2h
ticket-desk+kiosk/seat_hold@prod-north  2m      2h
ticket-desk/seat_hold@prod-south        5m      2h
ticket-desk+kiosk/seat_hold@prod-south  90s     2h

It causes 4 findings
  error[not-allowed] ticket-desk+kiosk/seat_hold@prod-north
  error[not-allowed] ticket-desk+kiosk/seat_hold@prod-south
  error[not-allowed] ticket-desk/seat_hold@default
  error[not-allowed] ticket-desk/seat_hold@test

It cures 1 finding
  warning[rule:time-to-pay] ticket-desk/seat_hold@test

nothing written: 4 values would change; --write does it.

"#]]);
    assert_eq!(ledger.files("stages").iter().map(|path| ledger.read(path)).collect::<Vec<_>>(), before);
    // A move to other hosts, users and name prefixes in one command.
    ledger
        .run("replace *@test --swap .test.brackwater.example .qa.brackwater.example --lead test qa --lead watch@test watch@qa --regex ^(.*)v2$ $1v3 --write")
        .code(0);
    let (text, old) = (ledger.read("stages/test.toml"), TestLedger::demo().read("stages/test.toml"));
    let expected = old
        .replace(".test.brackwater.example", ".qa.brackwater.example")
        .replace("watch@test.", "watch@qa.")
        .replace("= \"test\"", "= \"qa\"")
        .replace("= \"test-", "= \"qa-")
        .replace("/v2\"", "/v3\"");
    assert_eq!(text, expected);
    ledger.run("replace *@test --swap .test. .qa.").code(0).stdout_eq(str![[r#"
Nothing to replace: nothing was found, or it is so already.

"#]]);
}

#[test]
fn a_naming_standard_changes_in_one_command() {
    let ledger = TestLedger::demo();
    ledger.run("render @prod-north --out before --countersign prod-north").code(0);
    let standard = "replace tide-* --names units,entries,outputs --name-lead tide- sea- --name-swap _ -";
    ledger.run(&format!("{standard} --swap brackwater Brackwater")).code(0).stdout_eq(str![[r#"
setting                         before                                                     after                                                      in
tide-watch/alarm_to@dev         ["watch@dev.brackwater.example"]                           ["watch@dev.Brackwater.example"]                           stages/dev.toml:27
tide-watch/alarm_to@test        ["watch@test.brackwater.example"]                          ["watch@test.Brackwater.example"]                          stages/test.toml:33
tide-watch/alarm_to@staging     ["watch@staging.brackwater.example"]                       ["watch@staging.Brackwater.example"]                       stages/staging.toml:22
tide-watch/alarm_to@prod-north  ["watch@brackwater.example","harbour@brackwater.example"]  ["watch@Brackwater.example","harbour@Brackwater.example"]  stages/prod-north.toml:29
tide-watch/alarm_to@prod-south  ["watch@brackwater.example"]                               ["watch@Brackwater.example"]                               stages/prod-south/tide-watch.toml:1

name of                              before      after
tide-watch/alarm_to in json files    alarm_to    alarm-to
tide-watch/look_ahead in json files  look_ahead  look-ahead
tide-watch/low_water in json files   low_water   low-water
tide-watch/poll_every in json files  poll_every  poll-every
entry tide-watch/alarm_to            alarm_to    alarm-to
entry tide-watch/look_ahead          look_ahead  look-ahead
entry tide-watch/low_water           low_water   low-water
entry tide-watch/poll_every          poll_every  poll-every
unit tide-watch                      tide-watch  sea-watch

5 effective values change
field                           before                                                     after
tide-watch/alarm_to@dev         ["watch@dev.brackwater.example"]                           ["watch@dev.Brackwater.example"]
tide-watch/alarm_to@test        ["watch@test.brackwater.example"]                          ["watch@test.Brackwater.example"]
tide-watch/alarm_to@staging     ["watch@staging.brackwater.example"]                       ["watch@staging.Brackwater.example"]
tide-watch/alarm_to@prod-north  ["watch@brackwater.example","harbour@brackwater.example"]  ["watch@Brackwater.example","harbour@Brackwater.example"]
tide-watch/alarm_to@prod-south  ["watch@brackwater.example"]                               ["watch@Brackwater.example"]

nothing written: 5 values and 9 names would change; --write does it.

"#]]);
    ledger.run(&format!("{standard} --write")).code(0);
    assert!(!ledger.path("units/tide-watch.toml").exists());
    assert!(ledger.read("units/sea-watch.toml").contains("[variables.look-ahead]\n"));
    ledger.run("render @prod-north --out after --countersign prod-north").code(0);
    let json = ledger.read("before/tide-watch/tide-watch.json");
    let json = ["alarm_to", "low_water", "poll_every", "look_ahead"]
        .iter()
        .fold(json, |json, name| json.replace(name, &name.replace('_', "-")));
    assert_eq!(
        serde_json::from_str::<serde_json::Value>(&ledger.read("after/sea-watch/tide-watch.json")).unwrap(),
        serde_json::from_str::<serde_json::Value>(&json).unwrap()
    );
    let old_env = ledger.read("before/ticket-desk/ticket-desk.env");
    assert_eq!(ledger.read("after/ticket-desk/ticket-desk.env"), old_env);

    ledger.run("replace shared/tide-api.base --names outputs --name-swap api x --write").code(0);
    let shared = ledger.read("shared.toml");
    assert!(shared.contains("json = \"/tide-x/base\""), "{shared}");

    for (arguments, error) in [
        ("ticket-desk --names units", "error: it takes both: which names change, and how"),
        ("ticket-desk --name-swap a b", "error: it takes both: which names change, and how"),
        (
            "ticket-desk --names units --name-swap - .",
            "error: `ticket-desk` would become `ticket.desk`, which is no name",
        ),
        (
            "*-desk --names units --name-swap ticket-desk sea-watch",
            "error: `sea-watch` is the name of something else already",
        ),
        ("ticket-desk --names units --name-regex [ x", "error: `[` is no regular expression"),
    ] {
        let output = ledger.command(&format!("replace {arguments} --write")).output().unwrap();
        let text = String::from_utf8(output.stderr).unwrap();
        assert!(text.starts_with(error), "{arguments}: {text}");
    }
}

#[test]
fn replace_refuses_what_is_unclear_or_guarded() {
    let ledger = TestLedger::demo();
    ledger.run("replace --swap a b").code(2).stdout_eq("").stderr_eq(str![[r#"
error: nothing says what to replace
help: narrow it: a pattern of addresses, --contains TEXT, --kind KIND …

"#]]);
    ledger.run("replace ticket-desk").code(2).stdout_eq("").stderr_eq(str![[r#"
error: nothing says what to put in place of what is found
help: add --to VALUE, --swap OLD NEW, --lead OLD NEW or --regex REGEX NEW

"#]]);
    ledger.run("replace */*.port --to soon").code(2).stdout_eq("").stderr_eq(str![[r#"
error: the value for `shared/mail.port@dev` is not a port from 1 to 65535 without quotes
help: narrow the search to fields of one type: --type TYPE

"#]]);
    ledger.run("replace *@test --equals quayside --to x").code(4).stdout_eq("").stderr_eq(str![[r#"
error: `shared/bookings-db.password@test` is a secret: an argument can be seen by others on this machine
help: leave secrets out with --no-secret

"#]]);
    ledger
        .run("replace *@prod-north --swap .north. .far-north. --write --why x")
        .code(4)
        .stdout_eq("")
        .stderr_eq(str![[r#"
error: this changes prod-north, a production stage
help: add --countersign prod-north

"#]]);
    ledger.run("replace *@prod-north --swap .north. .far-north.").code(0);
}

#[test]
fn routines_are_kept_and_filled_in() {
    let ledger = TestLedger::demo();
    let save = "replace *@{stage} --swap .{old}.brackwater.example .{new}.brackwater.example --lead {old} {new} --save move-stage";
    ledger
        .run(save)
        .code(0)
        .stdout_eq(str![[r#"
Kept in ledger.toml: cledger replace --routine move-stage

"#]])
        .stderr_eq("");
    let manifest = ledger.read("ledger.toml");
    snapbox::assert_data_eq!(
        &manifest[manifest.find("[[routine]]").unwrap()..],
        str![[r#"
[[routine]]
name = "move-stage"

[routine.search]
pattern = "*@{stage}"

[routine.replace]
swap = [".{old}.brackwater.example", ".{new}.brackwater.example"]
lead = ["{old}", "{new}"]

"#]]
    );
    ledger.run(save).code(2).stdout_eq("").stderr_eq(str![[r#"
error: there is a routine `move-stage` already
help: choose another name, or take that one out of ledger.toml

"#]]);
    ledger.run("replace --routine move-stage").code(2).stdout_eq("").stderr_eq(str![[r#"
error: routine `move-stage` leaves new, old, stage open
help: add --with new=… --with old=… --with stage=…

"#]]);
    ledger.run("replace --routine move-stge").code(2).stdout_eq("").stderr_eq(str![[r#"
error: there is no routine `move-stge`
help: did you mean `move-stage`?

"#]]);
    ledger.run("replace --routine move-stage --with x").code(2).stdout_eq("");
    ledger.run("replace --routine move-stage --swap a b").code(2).stdout_eq("").stderr_eq(str![[r#"
error: routine `move-stage` says what to search and what to change
help: leave out the other conditions and changes

"#]]);
    ledger.run("list routines").code(0).stdout_eq(str![[r#"
routine     leaves open          about
move-stage  {new} {old} {stage}

"#]]);
    let (found, _) = written(&ledger.run("search --routine move-stage --with stage=test").code(0));
    assert_eq!(found, written(&ledger.run("search *@test").code(0)).0);
    ledger.run("search --routine move-stage").code(2);
    ledger.run("search --routine move-stage --with stage=test --kind endpoint").code(2);
    ledger
        .run("replace --routine move-stage --with stage=test --with old=test --with new=qa --write")
        .code(0);
    ledger.run("get fare-engine/listen.host@test").code(0).stdout_eq("fares.qa.brackwater.example\n");
    ledger.run("get crew-roster/payroll.user@test").code(0).stdout_eq("qa\n");
    // What it was called before is answered precisely.
    ledger
        .write("ledger.toml", manifest.replace("[[routine]]", "[[recipe]]").replace("[routine.", "[recipe."));
    let (_, err) = written(&ledger.run("list").code(2));
    assert!(err.contains("unknown key `recipe`") && err.contains("it is called `routine` now"), "{err}");
    ledger.write("ledger.toml", manifest.replace("swap = ", "swp = "));
    ledger.run("list").code(2).stdout_eq("").stderr_eq(str![[r#"
error: unknown key `swp`
   --> ledger.toml:108:1
    |
108 | swp = [".{old}.brackwater.example", ".{new}.brackwater.example"]
    | ^^^
    |
    = help: did you mean `swap`?

error: the ledger cannot be read: 1 mistake was found

"#]]);
    ledger.write("ledger.toml", manifest.replace("pattern = \"*@{stage}\"", "pattern = 5"));
    ledger.run("replace --routine move-stage").code(2).stdout_eq("").stderr_eq(str![[r#"
error: a routine in ledger.toml cannot be read: invalid type: integer `5`, expected a string
help: docs/formats.md says what can stand in it

"#]]);
}
