//! `check`: findings, with places and remedies.

use snapbox::str;

use crate::test_ledger::{SMALL, TestLedger, written};

#[test]
fn check_shows_what_was_put_in_wrong_in_the_demo() {
    let ledger = TestLedger::demo();
    ledger
        .run_in_80("check")
        .code(1)
        .stdout_eq(str![[r#"
unit          dev         test        staging    prod-north  prod-south
crew-roster   2 warnings  3 warnings  2 errors   ok          2 errors
fare-engine   1 warning   1 warning   ok         ok          ok
harbour-gate  not there   1 error     not there  ok          1 error
night-mail    not there   3 warnings  1 warning  1 warning   3 warnings
quay-screens  1 error     1 error     ok         ok          3 errors
ticket-desk   4 warnings  2 errors    ok         ok          5 errors
tide-watch    2 warnings  3 errors    ok         ok          2 errors

shared entries and the ledger
error[wrong-type]: the value of `prefetch` of `events` has the wrong type: it
                   is text, and an integer is needed
  --> stages/test.toml:10:12
   |
10 | prefetch = "50"
   |            ^^^^ shared/events.prefetch@test
   |
   = help: write a whole number without quotes

error[plain-secret]: `token` of `tide-api` is a secret, and stands here in
                     plain text
  --> stages/prod-south/shared.toml:13:9
   |
13 | token = …
   |         ^ shared/tide-api.token@prod-south
   |
   = help: cledger key protect @prod-south --write, or set it --from env:NAME

error[not-distinct]: `token` of `tide-api` is the same in `prod-south` as in
                     `test` (stages/test.toml:17:9), and may not be
  --> stages/prod-south/shared.toml:13:9
   |
13 | token = …
   |         ^ shared/tide-api.token@prod-south
   |
   = note: needed by quay-screens, ticket-desk, tide-watch
   = help: give shared/tide-api.token@prod-south a value of its own

warning[plain-secret]: `password` of `bookings-db` is a secret, and stands here
                       in plain text
 --> stages/dev.toml:4:12
  |
4 | password = …
  |            ^ shared/bookings-db.password@dev
  |
  = help: cledger key protect @dev --write, or set it --from env:NAME
  also stages/test.toml:4:12  shared/bookings-db.password@test
  also stages/dev.toml:9:12  shared/events.password@dev
  also stages/test.toml:9:12  shared/events.password@test
  also stages/dev.toml:17:9  shared/tide-api.token@dev
  also stages/test.toml:17:9  shared/tide-api.token@test

warning[points-at-other-stage]: `host` of `mail` in `prod-south` points at
                                `mail.brackwater.example`, which belongs to
                                `prod-north` (stages/prod-north.toml:9:8)
 --> stages/prod-south/shared.toml:9:8
  |
9 | host = "mail.brackwater.example"
  |        ^^^^^^^^^^^^^^^^^^^^^^^^^ shared/mail.host@prod-south
  |
  = help: name what belongs to `prod-south`; what both share belongs into a
          group of theirs
  also stages/prod-south/shared.toml:12:8  shared/tide-api.base@prod-south

warning[waiver-expired]: the waiver of `not-allowed` for
                         quay-screens/brightness@dev was to count until
                         2026-09-30 only (to see the panels in full sun)
 --> waivers.toml:9:1
  |
9 | [[waiver]]
  | ^^^^^^^^^^ quay-screens/brightness@dev
  |
  = help: mend what it is about, or agree on another last day with whoever
          agreed on this one

warning[waiver-unneeded]: nothing needs the waiver of `missing-value` for
                          tide-watch/alarm_to@staging
  --> waivers.toml:16:1
   |
16 | [[waiver]]
   | ^^^^^^^^^^ tide-watch/alarm_to@staging
   |
   = help: take it out of waivers.toml, or mend its `address`

warning[unused-shared]: no unit uses the shared entry `old-forecast`
  --> shared.toml:25:12
   |
25 | [endpoints.old-forecast]
   |            ^^^^^^^^^^^^ shared/old-forecast
   |
   = help: add it to `uses` of a unit, or: cledger remove shared/old-forecast

crew-roster
error[unknown-name]: unit `crew-roster` has no entry `retry_limt`, so this
                     setting has no effect
  --> stages/staging.toml:27:1
   |
27 | retry_limt = …
   | ^^^^^^^^^^ crew-roster/retry_limt@staging
   |
   = help: did you mean `retry_limit`?

error[reference-unknown]: crew-roster/badge-reader.user@staging →
                          `${badge-raeder.user}` names nothing: `crew-roster`
                          has no entry `badge-raeder`; the nearest is
                          `badge-reader`
  --> stages/staging.toml:26:21
   |
26 | badge-reader.user = "${badge-raeder.user}"
   |                     ^^^^^^^^^^^^^^^^^^^^^^
   |
   = note: crew-roster/badge-reader.user@staging
   = help: mend the reference, or write `$${` for a literal `${`

error[points-at-other-stage]: `base` of `payroll` in `prod-south` points at
                              `payroll.test.brackwater.example`, which belongs
                              to `test` (stages/test.toml:38:20)
 --> stages/prod-south/crew-roster.toml:1:16
  |
1 | payroll.base = "https://payroll.test.brackwater.example"
  |                ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
  |
  = note: crew-roster/payroll.base@prod-south
  = help: name what belongs to `prod-south`; what both share belongs into a
          group of theirs

error[not-aligned]: `rest_hours` in `prod-south` differs from that in
                    `prod-north`, and the two must agree
 --> stages/prod-south/crew-roster.toml:2:14
  |
2 | rest_hours = 12
  |              ^^ crew-roster/rest_hours@prod-south
  |
  = help: cledger compare @prod-north @prod-south; let them agree, or name it in
          `except` of that [[aligned]]

warning[plain-secret]: `password` of `badge-reader` is a secret, and stands here
                       in plain text
  --> stages/dev.toml:34:17
   |
34 | badge-reader = …
   |                 ^ crew-roster/badge-reader.password@dev
   |
   = help: cledger key protect @dev --write, or set it --from env:NAME
  also stages/test.toml:39:44  crew-roster/badge-reader.password@test
  also stages/test.toml:38:89  crew-roster/payroll.password@test

ticket-desk
error[fixed-value-set]: `currency` is the same everywhere (vary = "never"), so
                        this setting has no effect
  --> stages/test.toml:23:12
   |
23 | currency = "EUR"
   |            ^^^^^ ticket-desk/currency@test
   |
   = help: take it out, or let the contract say vary = "may"

error[missing-value]: `region` has no value in `prod-south`: each stage must
                      state its own, and no default or followed one counts
  --> units/ticket-desk.toml:17:12
   |
17 | [variables.region]
   |            ^^^^^^
   |
   = note: ticket-desk/region@prod-south, ticket-desk+kiosk/region@prod-south
   = help: cledger set ticket-desk/region@prod-south=north --countersign
           prod-south --why TEXT

warning[plain-secret]: `token` of `card-terminal` is a secret, and stands here
                       in plain text
  --> stages/dev.toml:21:23
   |
21 | card-terminal.token = …
   |                       ^ ticket-desk/card-terminal.token@dev
   |
   = help: cledger key protect @dev --write, or set it --from env:NAME
  also stages/test.toml:22:23  ticket-desk/card-terminal.token@test

warning[rule:time-to-pay]: `seat_hold` breaks the rule `time-to-pay`: it must be
                           at least 1m (a traveller needs that long to find the
                           purse)
  --> stages/test.toml:21:13
   |
21 | seat_hold = { value = "30s", why = "short, for the booking race test", until = 2027-01-31 }
   |             ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
   |
   = note: ticket-desk/seat_hold@test
   = help: hold seats for a minute at least, or waive it for the time of a test

quay-screens
error[not-allowed]: the value of `brightness` breaks `max`: it must be at most
                    100
  --> stages/dev.toml:30:14
   |
30 | brightness = 130
   |              ^^^ quay-screens/brightness@dev
   |
   = help: write at most 100

error[missing-value]: 1 field has no value for want of another:
  quay-screens/region@prod-south needs ticket-desk/region@prod-south

tide-watch
error[reference-circle]: `look_ahead` refers to itself:
                         tide-watch/look_ahead@test →
                         tide-watch/poll_every@test →
                         tide-watch/look_ahead@test
  --> stages/test.toml:34:14
   |
34 | look_ahead = "${poll_every}"
   |              ^^^^^^^^^^^^^^^ tide-watch/look_ahead@test
   |
   = help: give one of these fields a value without a reference
  also stages/test.toml:35:14  tide-watch/poll_every@test

harbour-gate
error[missing-value]: `host` of `lock-controller` has no value in
                      `prod-south`: each stage must state its own, and no
                      default or followed one counts
 --> units/harbour-gate.toml:7:14
  |
7 | [connections.lock-controller]
  |              ^^^^^^^^^^^^^^^ harbour-gate/lock-controller.host@prod-south
  |
  = help: cledger set harbour-gate/lock-controller.host@prod-south=…
          --countersign prod-south --why TEXT

night-mail
warning[plain-secret]: `password` of `archive` is a secret, and stands here in
                       plain text
  --> stages/test.toml:42:12
   |
42 | archive = …
   |            ^ night-mail/archive.password@test
   |
   = help: cledger key protect @test --write, or set it --from env:NAME

warning[points-at-other-stage]: `host` of `archive` in `prod-south` points at
                                `files.brackwater.example`, which belongs to
                                `prod-north` (stages/prod-north.toml:35:20)
 --> stages/prod-south/night-mail.toml:1:16
  |
1 | archive.host = "files.brackwater.example"
  |                ^^^^^^^^^^^^^^^^^^^^^^^^^^ night-mail/archive.host@prod-south
  |
  = help: name what belongs to `prod-south`; what both share belongs into a
          group of theirs

warning[default-in-use]: `status_page` is still at its default in `prod-north`,
                         a production stage
  --> units/night-mail.toml:18:11
   |
18 | default = "http://localhost:8900/night-mail"
   |           ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
   |
   = note: night-mail/status_page@prod-north, @prod-south, @staging, @test
   = help: cledger set night-mail/status_page@prod-north=…, even if to the same
           value

15 errors, 23 warnings in 7 units; 1 waived.

"#]])
        .stderr_eq("");
}

#[test]
fn check_of_a_sound_ledger_is_clean() {
    let ledger = TestLedger::small();
    ledger
        .run("check @prod")
        .code(0)
        .stdout_eq(str![[r#"
unit  prod
desk  ok

ok: no findings in 1 unit.

"#]])
        .stderr_eq("");
    // A plain secret outside production is a warning, which is no failure.
    ledger.run("check").code(0).stdout_eq(str![[r#"
unit  dev        prod
desk  1 warning  ok

shared entries and the ledger
warning[plain-secret]: `password` of `db` is a secret, and stands here in plain text
 --> stages/dev.toml:4:12
  |
4 | password = …
  |            ^ shared/db.password@dev
  |
  = help: cledger key protect @dev --write, or set it --from env:NAME

1 warning in 1 unit.

"#]]);
}

#[test]
fn check_looks_at_what_the_pattern_covers() {
    let ledger = TestLedger::demo();
    let findings = |arguments: &str| {
        let (out, _) = written(&ledger.run(&format!("check {arguments} --json")));
        let document: serde_json::Value = serde_json::from_str(&out).unwrap();
        let found = document["findings"].as_array().unwrap();
        found.iter().map(|finding| finding["address"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    let all = findings("");
    assert!(all.len() > 10, "the demo has findings: {all:?}");
    let of_unit = findings("crew-roster");
    let own = of_unit.iter().filter(|address| address.starts_with("crew-roster/")).count();
    // What it uses of the shared entries is part of it.
    let used = ["shared/bookings-db.", "shared/mail."];
    let used = of_unit.iter().filter(|it| used.iter().any(|used| it.starts_with(used))).count();
    assert!(own > 0 && used > 0 && own + used == of_unit.len(), "{of_unit:?}");
    let of_stage = findings("--stage prod-south");
    // That a shared entry is not used is so in every stage.
    let here = |address: &String| address.ends_with("@prod-south") || address == "shared/old-forecast";
    assert!(!of_stage.is_empty() && of_stage.iter().all(here), "{of_stage:?}");
    assert_eq!(of_stage, findings("@prod-south"));
    let of_fields = findings("*/*.password@test");
    assert!(!of_fields.is_empty() && of_fields.iter().all(|address| address.ends_with(".password@test")));
    ledger.run("check tickets-desk").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `tickets-desk` covers no unit of the ledger
help: the nearest name is `ticket-desk`

"#]]);
    ledger.run("check ticket-desk@").code(2).stdout_eq("").stderr_eq(str![[r#"
error: bad address `ticket-desk@`: a name is expected, at character 13
  ticket-desk@
              ^
help: an address is [UNIT[+INSTANCE] | shared][/ENTRY[.FIELD]][@STAGE]

"#]]);
    ledger.run("check @test --stage dev").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `@test` names stages, and so does --stage

"#]]);
}

#[test]
fn check_fetches_only_when_asked() {
    let ledger = TestLedger::small();
    ledger.run("check desk@prod").code(0);
    ledger.run("check desk@prod --fetch").code(1).stdout_eq(str![[r#"
unit  prod
desk  1 error

shared entries and the ledger
error[missing-value]: `password` of `db` has no value in `prod`: the environment variable `DB_PASSWORD` is not set
 --> stages/prod.toml:4:12
  |
4 | password = …
  |            ^ shared/db.password@prod
  |
  = note: needed by desk
  = help: put it there, or write the value another way

1 error in 1 unit.

"#]]);
    ledger.command("check desk@prod --fetch").env("DB_PASSWORD", "x").assert().code(0);
}

/// Each finding: a file of the small ledger with a mistake, and the lines that tell it.
#[test]
fn every_finding_points_at_its_cause() {
    let cases: [(&str, &str, &str); 14] = [
        ("missing-value", "stages/prod.toml", "[units.desk]\nhold = \"2m\"\n"),
        ("unknown-name", "stages/dev.toml", "[units.desk]\nregoin = \"north\"\n"),
        ("unknown-name", "stages/dev.toml", "[shared]\ndb.hots = \"x\"\n"),
        ("unknown-name", "stages/dev.toml", "[units.desk]\ndb = \"x\"\n"),
        ("fixed-value-set", "stages/dev.toml", "[units.desk]\ndb.url = \"x://y\"\n"),
        ("wrong-type", "stages/dev.toml", "[units.desk]\nhold = 5\n"),
        ("wrong-type", "stages/dev.toml", "[units.desk]\nhold = \"five\"\n"),
        ("not-allowed", "stages/dev.toml", "[units.desk]\nregion = \"west\"\n"),
        ("unused-setting", "stages/dev.toml", "[units.dsek]\nhold = \"1m\"\n"),
        ("unused-setting", "stages/dev.toml", "[units.\"desk+kiosk\"]\nhold = \"1m\"\n"),
        ("reference-unknown", "stages/dev.toml", "[units.desk]\nhold = \"${hodl}\"\n"),
        ("reference-unknown", "stages/dev.toml", "[units.desk]\nhold = \"${hold\"\n"),
        ("reference-circle", "stages/dev.toml", "[units.desk]\nhold = \"${region}\"\nregion = \"${hold}\"\n"),
        ("plain-secret", "stages/prod.toml", "[shared.db]\npassword = \"spring-tide\"\n"),
    ];
    let mut told = String::new();
    for (code, path, text) in cases {
        let ledger = TestLedger::small();
        ledger.write(path, text);
        let (out, _) = written(&ledger.run("check"));
        let blocks: Vec<&str> = out.split("\n\n").collect();
        let severity = if code == "unused-setting" { "warning" } else { "error" };
        let start = format!("{severity}[{code}]");
        let block = blocks
            .iter()
            .find(|block| block.contains(&start) && (block.contains(path) || code == "missing-value"));
        let block = block.unwrap_or_else(|| panic!("{start} in {path}:\n{out}"));
        assert!(!out.contains("spring-tide"), "a secret is not shown");
        let from = block.find(&start).unwrap();
        told += &format!("{}\n\n", &block[from..]);
    }
    snapbox::assert_data_eq!(
        told,
        str![[r#"
error[missing-value]: `host` of `db` has no value in `prod`: each stage must state its own
 --> shared.toml:1:14
  |
1 | [connections.db]
  |              ^^ shared/db.host@prod
  |
  = note: needed by desk
  = help: cledger set shared/db.host@prod=… --countersign prod

error[unknown-name]: unit `desk` has no entry `regoin`, so this setting has no effect
 --> stages/dev.toml:2:1
  |
2 | regoin = …
  | ^^^^^^ desk/regoin@dev
  |
  = help: did you mean `region`?

error[unknown-name]: `db` has no field `hots`, so this setting has no effect
 --> stages/dev.toml:2:4
  |
2 | db.hots = …
  |    ^^^^ shared/db.hots@dev
  |
  = help: did you mean `host`?

error[unknown-name]: `db` has several fields, and this setting names none of them
 --> stages/dev.toml:2:1
  |
2 | db = …
  | ^^ desk/db@dev
  |
  = help: write a table: db = { FIELD = … }

error[fixed-value-set]: `url` of `db` is derived from the other fields, so this setting has no effect
 --> stages/dev.toml:2:10
  |
2 | db.url = …
  |          ^ desk/db.url@dev
  |
  = help: take it out, and set the fields that it is made of

error[wrong-type]: the value of `hold` has the wrong type: it is an integer, and a duration is needed
 --> stages/dev.toml:2:8
  |
2 | hold = 5
  |        ^ desk/hold@dev
  |
  = help: write a duration like "250ms", "30s" or "1h30m"

error[wrong-type]: the value of `hold` has the wrong type: this text is no duration
 --> stages/dev.toml:2:8
  |
2 | hold = "five"
  |        ^^^^^^ desk/hold@dev
  |
  = help: write a duration like "250ms", "30s" or "1h30m"

error[not-allowed]: the value of `region` breaks `one_of`: it must be one of north, south
 --> stages/dev.toml:2:10
  |
2 | region = "west"
  |          ^^^^^^ desk/region@dev
  |
  = help: write one of north, south

warning[unused-setting]: there is no unit `dsek`, so these settings have no effect
 --> stages/dev.toml:1:8
  |
1 | [units.dsek]
  |        ^^^^ dsek@dev
  |
  = help: did you mean `desk`? If not, take these settings out

warning[unused-setting]: unit `desk` has no instance `kiosk`, so these settings have no effect
 --> stages/dev.toml:1:8
  |
1 | [units."desk+kiosk"]
  |        ^^^^^^^^^^^^ desk+kiosk@dev
  |
  = help: take these settings out, or declare the unit in units/desk.toml

error[reference-unknown]: desk/hold@dev → `${hodl}` names nothing: `desk` has no entry `hodl`; the nearest is `hold`
 --> stages/dev.toml:2:8
  |
2 | hold = "${hodl}"
  |        ^^^^^^^^^ desk/hold@dev
  |
  = help: mend the reference, or write `$${` for a literal `${`

error[reference-unknown]: desk/hold@dev → a `${` is not closed: write `}` after the name, or `$${` for a literal `${`
 --> stages/dev.toml:2:8
  |
2 | hold = "${hold"
  |        ^^^^^^^^ desk/hold@dev
  |
  = help: mend the reference, or write `$${` for a literal `${`

error[reference-circle]: `hold` refers to itself: desk/hold@dev → desk/region@dev → desk/hold@dev
 --> stages/dev.toml:2:8
  |
2 | hold = "${region}"
  |        ^^^^^^^^^^^ desk/hold@dev
  |
  = help: give one of these fields a value without a reference
  also stages/dev.toml:3:10  desk/region@dev

error[plain-secret]: `password` of `db` is a secret, and stands here in plain text
 --> stages/prod.toml:2:12
  |
2 | password = …
  |            ^ shared/db.password@prod
  |
  = help: cledger key protect @prod --write, or set it --from env:NAME


"#]]
    );
}

#[test]
fn names_in_outputs_may_not_clash() {
    let ledger = TestLedger::small();
    let contract = "[variables.seat_hold]\ndefault = \"a\"\n[variables.seat-hold]\ndefault = \"b\"\n\
                    [[output]]\npath = \"a.env\"\nformat = \"dotenv\"\n[[output]]\npath = \"a.env\"\nformat = \"json\"\n";
    ledger.write("units/desk.toml", contract);
    ledger.run("check desk@dev").code(1).stdout_eq(str![[r#"
unit  dev
desk  1 error

desk
error[unknown-name]: unit `desk` has no entry `region`, so this setting has no effect
 --> stages/dev.toml:7:1
  |
7 | region = …
  | ^^^^^^ desk/region@dev
  |
  = help: declare it in units/desk.toml, or take the setting out

error[name-clash]: `seat-hold` and `seat_hold` are both called `SEAT_HOLD` in `a.env`
 --> units/desk.toml:1:12
  |
1 | [variables.seat_hold]
  |            ^^^^^^^^^ desk
  |
  = help: give one of them another name with `as`

error[name-clash]: two outputs have the path `a.env`
 --> units/desk.toml:9:8
  |
9 | path = "a.env"
  |        ^^^^^^^ desk
  |
  = help: give one of them another path, or other stages

3 errors in 1 unit.

"#]]);
}

#[test]
fn a_field_that_never_varies_is_not_set_anywhere() {
    let mut files = SMALL.to_vec();
    files[2].1 = "[variables.hold]\nvary = \"never\"\ndefault = \"5m\"\n";
    files[3].1 = "[units.desk]\nhold = \"1m\"\n";
    let ledger = TestLedger::with(files.into_iter().filter(|(path, _)| *path != "stages/prod.toml"));
    ledger.run("check desk").code(1).stdout_eq(str![[r#"
unit  dev      prod
desk  1 error  ok

desk
error[fixed-value-set]: `hold` is the same everywhere (vary = "never"), so this setting has no effect
 --> stages/dev.toml:2:8
  |
2 | hold = "1m"
  |        ^^^^ desk/hold@dev
  |
  = help: take it out, or let the contract say vary = "may"

1 error in 1 unit.

"#]]);
    ledger.run("get desk/hold@dev").code(0).stdout_eq("5m\n");
    ledger.run("get desk/hold@dev --assume desk/hold=1m").code(2).stderr_eq(str![[r#"
error: `desk/hold` cannot be assumed: it is the same everywhere

"#]]);
}

#[test]
fn circles_of_any_length_are_told_whole() {
    for length in [1, 2, 50] {
        let ledger = TestLedger::small();
        let mut contract = String::new();
        for number in 0..length {
            contract += &format!("[variables.v{number}]\ndefault = \"${{v{}}}\"\n", (number + 1) % length);
        }
        contract += "[variables.leads_in]\ndefault = \"${v0}\"\n";
        ledger.write("units/desk.toml", contract);
        ledger.write("stages/dev.toml", "");
        ledger.write("stages/prod.toml", "");
        let (out, _) = written(&ledger.run("check @dev").code(1));
        let findings: Vec<&str> =
            out.lines().filter(|line| line.starts_with("error[reference-circle]")).collect();
        assert_eq!(findings.len(), 1, "a circle of {length} is told once:\n{out}");
        for number in 0..length {
            assert!(findings[0].contains(&format!("v{number}")), "{}", findings[0]);
        }
        assert!(out.contains("leads_in") || out.contains("missing"), "{out}");
    }
}

#[test]
fn a_chain_of_ten_thousand_references_is_followed() {
    let ledger = TestLedger::small();
    let mut contract = String::from("[variables.v0]\ndefault = \"the end\"\n");
    for number in 1..=10_000 {
        contract += &format!("[variables.v{number}]\ndefault = \"${{v{}}}\"\n", number - 1);
    }
    ledger.write("units/desk.toml", contract);
    ledger.write("stages/dev.toml", "");
    ledger.run("get desk/v10000@dev").code(0).stdout_eq("the end\n");
    ledger.write("stages/dev.toml", "[units.desk]\nv0 = { absent = true }\n");
    let (out, _) = written(&ledger.run("check @dev").code(1));
    assert!(
        out.lines().count() < 60,
        "ten thousand findings with one cause are told shortly:\n{}",
        out.len()
    );
}
