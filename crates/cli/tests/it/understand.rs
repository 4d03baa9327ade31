//! `trace`, `impact` and `matrix`: the ways of a value.

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

#[test]
fn trace_shows_each_candidate_and_where_the_value_goes() {
    let ledger = TestLedger::demo();
    ledger
        .run("trace ticket-desk+kiosk/seat_hold@prod-south")
        .code(0)
        .stdout_eq(str![[r#"
ticket-desk+kiosk/seat_hold@prod-south  90s

candidate, weakest first                                                                says
default, for ticket-desk: units/ticket-desk.toml:12:11                                  5m    weaker
follow prod-north, for ticket-desk+kiosk: stages/prod-north.toml:19:13                  2m    weaker
stage prod-south, for ticket-desk+kiosk: stages/prod-south/ticket-desk+kiosk.toml:1:13  90s   wins

It is SEAT_HOLD in ticket-desk.env.

"#]])
        .stderr_eq("");
    ledger.run("trace ticket-desk/region@prod-south").code(0).stdout_eq(str![[r#"
ticket-desk/region@prod-south  missing

candidate, weakest first                                          says
follow prod-north, for ticket-desk: stages/prod-north.toml:16:10  north  does not count: each stage must state its own

It is REGION in ticket-desk.env.

"#]]);
    ledger
        .run("trace ticket-desk/fare_service@test --assume fare-engine/listen.port=1")
        .code(0)
        .stdout_eq(str![[r#"
ticket-desk/fare_service@test  http://fares.test.brackwater.example:1/fares

candidate, weakest first                                says
default, for ticket-desk: units/ticket-desk.toml:24:11  http://${fare-engine/listen.host}:${fare-engine/listen.port}/fares  wins

refers to                     which is                       from
fare-engine/listen.host@test  fares.test.brackwater.example  stages/test.toml:26
fare-engine/listen.port@test  1                              --assume

It is FARE_SERVICE in ticket-desk.env.

"#]]);
    ledger.run("trace tide-watch/look_ahead@test").code(0).stdout_eq(str![[r#"
tide-watch/look_ahead@test  reference-circle

candidate, weakest first                              says
default, for tide-watch: units/tide-watch.toml:13:11  36h            weaker
stage test, for tide-watch: stages/test.toml:34:14    ${poll_every}  wins

refers to     which is          from
poll_every    reference-circle  stages/test.toml:35
  look_ahead  reference-circle  (see above)

It is look_ahead in tide-watch.json.

"#]]);
    ledger.run_in_80("trace crew-roster/bookings-db.url@prod-north").code(0).stdout_eq(str![[r#"
crew-roster/bookings-db.url@prod-north  (secret)

It is made from other fields.

refers to             which is                     from
bookings-db.host      db.north.brackwater.example  stages/prod-north.toml:2
bookings-db.port      5432                         default shared.toml:3
bookings-db.user      ferries                      groups/production.toml:2
bookings-db.password  (secret)                     groups/guarded.toml:3
bookings-db.options   {"connect_timeout":"10",     stages/prod-north.toml:3
                      "sslmode":"verify-full"}
bookings-db.database  bookings                     default shared.toml:6

It is bookings-db.url in roster.json.
It is BOOKINGS_DB_URL in roster.env.

"#]]);
    ledger.run("trace ticket-desk@test").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `ticket-desk@test` names no field
help: write UNIT/ENTRY.FIELD@STAGE

"#]]);
}

#[test]
fn impact_goes_back_along_references_groups_and_follows() {
    let ledger = TestLedger::demo();
    ledger
        .run("impact fare-engine/listen.host@test")
        .code(0)
        .stdout_eq(str![[r#"
field                          because
fare-engine/listen.host@test   it is the value itself
fare-engine/listen.url@test    it refers to fare-engine/listen.host@test
ticket-desk/fare_service@test  it refers to fare-engine/listen.host@test

3 effective values depend on fare-engine/listen.host@test.

"#]])
        .stderr_eq("");
    ledger.run("impact shared/mail.host@prod-north").code(0).stdout_eq(str![[r#"
field                             because
crew-roster/mail.host@prod-north  it gets its value from there
night-mail/mail.host@prod-north   it gets its value from there
tide-watch/mail.host@prod-north   it gets its value from there
shared/mail.host@prod-north       it is the value itself
crew-roster/mail.url@prod-north   it refers to crew-roster/mail.host@prod-north
night-mail/mail.url@prod-north    it refers to night-mail/mail.host@prod-north
tide-watch/mail.url@prod-north    it refers to tide-watch/mail.host@prod-north
shared/mail.url@prod-north        it refers to shared/mail.host@prod-north

8 effective values depend on shared/mail.host@prod-north.

"#]]);
    ledger.run("impact shared/events.user@production").code(0).stdout_eq(str![[r#"
field                                     because
harbour-gate/events.user@prod-north       it gets its value from there
harbour-gate/events.user@prod-south       it gets its value from there
quay-screens/events.user@prod-north       it gets its value from there
quay-screens/events.user@prod-south       it gets its value from there
ticket-desk/events.user@prod-north        it gets its value from there
ticket-desk+kiosk/events.user@prod-north  it gets its value from there
ticket-desk/events.user@prod-south        it gets its value from there
ticket-desk+kiosk/events.user@prod-south  it gets its value from there
tide-watch/events.user@prod-north         it gets its value from there
tide-watch/events.user@prod-south         it gets its value from there
shared/events.user@prod-north             it gets its value from there
shared/events.user@prod-south             it gets its value from there
harbour-gate/events.url@prod-north        it refers to harbour-gate/events.user@prod-north
harbour-gate/events.url@prod-south        it refers to harbour-gate/events.user@prod-south
quay-screens/events.url@prod-north        it refers to quay-screens/events.user@prod-north
quay-screens/events.url@prod-south        it refers to quay-screens/events.user@prod-south
ticket-desk/events.url@prod-north         it refers to ticket-desk/events.user@prod-north
ticket-desk+kiosk/events.url@prod-north   it refers to ticket-desk+kiosk/events.user@prod-north
ticket-desk/events.url@prod-south         it refers to ticket-desk/events.user@prod-south
ticket-desk+kiosk/events.url@prod-south   it refers to ticket-desk+kiosk/events.user@prod-south
tide-watch/events.url@prod-north          it refers to tide-watch/events.user@prod-north
tide-watch/events.url@prod-south          it refers to tide-watch/events.user@prod-south
shared/events.url@prod-north              it refers to shared/events.user@prod-north
shared/events.url@prod-south              it refers to shared/events.user@prod-south

24 effective values depend on shared/events.user@production.

"#]]);
    ledger.run("impact ticket-desk/languages@default").code(0).stdout_eq(str![[r#"
field                          because
ticket-desk/languages@dev      it gets its value from there
ticket-desk/languages@test     it gets its value from there
ticket-desk/languages@staging  it gets its value from there

3 effective values depend on ticket-desk/languages@default.

"#]]);
    ledger
        .run("impact ticket-desk/seat_hold@staging")
        .code(0)
        .stdout_eq(str![[r#"
field                          because
ticket-desk/seat_hold@staging  it is the value itself

1 effective value depends on ticket-desk/seat_hold@staging.

"#]])
        .stderr_eq(str![[r#"
ticket-desk/seat_hold@staging is not set there: what follows counts its effective value

"#]]);
    ledger.run("impact ticket-desk/*").code(2).stdout_eq("");
}

#[test]
fn what_impact_says_is_what_set_changes() {
    let ledger = TestLedger::demo();
    for (address, value) in [
        ("fare-engine/listen.host@test", "x.example"),
        ("shared/mail.host@prod-north", "x.example"),
        ("shared/events.prefetch@production", "7"),
        ("ticket-desk/languages@default", "[\"x\"]"),
    ] {
        let list = |arguments: &str, key: &str| {
            let (out, _) = written(&ledger.command(arguments).arg("--json").assert().code(0));
            let document: serde_json::Value = serde_json::from_str(&out).unwrap();
            let listed = document[key].as_array().unwrap();
            let addresses = listed.iter().map(|one| one["address"].as_str().unwrap().to_owned());
            let mut addresses: Vec<String> =
                addresses.filter(|address| !address.starts_with("shared/")).collect();
            addresses.sort();
            addresses
        };
        let said = list(&format!("impact {address}"), "affected");
        let set = format!("set {address}={value} --why x --countersign prod-north,prod-south");
        assert_eq!(list(&set, "effects"), said, "{address}");
    }
}

#[test]
fn matrix_fits_and_says_what_it_left_out() {
    let ledger = TestLedger::demo();
    ledger
        .run_in_80("matrix ticket-desk")
        .code(0)
        .stdout_eq(str![[r#"
                        dev                test               staging
ticket-desk
  bookings-db.host      localhost          db.test…           db.staging…
  bookings-db.port      5432  everywhere, default
  bookings-db.database  bookings  everywhere, default
  bookings-db.user      dev                test               staging
  bookings-db.password  (secret)           (secret)           (secret)         g
  bookings-db.options   {"connect_time… d  {"connect_time… d  {"connect_timeo… d
  bookings-db.url       (secret)        =  (secret)        =  (secret)         =
  card-terminal.token   (secret)           (secret)           (secret)         g
  currency              BRK  everywhere, default
  events.host           localhost          mq.test…           mq.staging…
  events.port           5672  everywhere, default
  events.path           ferries  everywhere, default
  events.user           guest              test               staging
  events.password       (secret)           (secret)           (secret)         g
  events.url            (secret)        =  (secret)        =  (secret)         =
  events.prefetch       20              d  wrong-type         20               d
  fare_service          …localhost…     d  …test…          d  …staging…        d
  languages             ["en","de"]     d  ["en","de"]     d  ["en","de"]      d
  region                none               none               none
  seat_hold             5m              d  30s             ≠  5m               d
  tide-api.base         http://localho…    …test…             …staging…
  tide-api.timeout      5s              d  5s              d  5s               d
  tide-api.auth         bearer  everywhere, default
  tide-api.token        (secret)           (secret)           (secret)         g

                        prod-north                   prod-south
ticket-desk
  bookings-db.host      db.north…                    db.south…
  bookings-db.port      5432  everywhere, default
  bookings-db.database  bookings  everywhere, default
  bookings-db.user      ferries                  g   ferries                  f
  bookings-db.password  (secret)                 g   (secret)                 f
  bookings-db.options   …,"sslmode":"verify-ful… ≠   …,"sslmode":"verify-ful… f≠
  bookings-db.url       (secret)                 =   (secret)                 =
  card-terminal.token   (secret)                 g   (secret)                 f
  currency              BRK  everywhere, default
  events.host           mq.north…                    mq.south…
  events.port           5672  everywhere, default
  events.path           ferries  everywhere, default
  events.user           ferries                  g   ferries                  f
  events.password       (secret)                 g   (secret)                 f
  events.url            (secret)                 =   (secret)                 =
  events.prefetch       100                      g   100                      f
  fare_service          http://fares.north…      d   http://fares.south…      d
  languages             ["en","de","fr","nl"]    g≠  ["en","de","fr","nl"]    f≠
  region                north                    ≠   missing
  seat_hold             5m                       d   5m                       d
  tide-api.base         https://tides.brackwate…     https://tides.brackwate…
  tide-api.timeout      10s                      g≠  10s                      f≠
  tide-api.auth         bearer  everywhere, default
  tide-api.token        (secret)                 g   (secret)
ticket-desk+kiosk
  bookings-db.host      db.north…                    db.south…
  bookings-db.port      5432  everywhere, default
  bookings-db.database  bookings  everywhere, default
  bookings-db.user      ferries  everywhere
  bookings-db.password  (secret)                 g   (secret)                 f
  bookings-db.options   {"connect_timeout":"10","sslmode":"verify-f…  everywhere
  bookings-db.url       (secret)                 =   (secret)                 =
  card-terminal.token   (secret)                 g   (secret)                 f
  currency              BRK  everywhere, default
  events.host           mq.north…                    mq.south…
  events.port           5672  everywhere, default
  events.path           ferries  everywhere, default
  events.user           ferries  everywhere
  events.password       (secret)                 g   (secret)                 f
  events.url            (secret)                 =   (secret)                 =
  events.prefetch       100  everywhere
  fare_service          http://fares.north…      d   http://fares.south…      d
  languages             ["en","de","fr","nl"]  everywhere
  region                north                        missing
  seat_hold             2m                           90s
  tide-api.base         https://tides.brackwater.example/v2  everywhere
  tide-api.timeout      10s  everywhere
  tide-api.auth         bearer  everywhere, default
  tide-api.token        (secret)                 g   (secret)

d default, g from a group, f followed, = made from other fields,
≠ not as in most stages, - not in this stage
23 of 48 fields differ: --differing shows these alone.

"#]])
        .stderr_eq("");
    ledger.command("matrix crew-roster").env("COLUMNS", "50").assert().code(0).stdout_eq(str![[r#"
                         dev          test
crew-roster
  badge-reader.user      dev          test
  badge-reader.password  (secret)     (secret)
  bookings-db.host       localhost    db.test…
  bookings-db.port       5432  everywhere, default
  bookings-db.database   boo…  everywhere, default
  bookings-db.user       dev          test
  bookings-db.password   (secret)     (secret)
  bookings-db.options    {"connec… d  {"connect… d
  bookings-db.url        (secret)  =  (secret)   =
  mail.host              localhost    mail.test…
  mail.port              2525         25         d
  mail.url               …localho… =  …test…     =
  mail.sender            …localho… d  …test…     d
  payroll.base           http://l…    …test…
  payroll.timeout        30s  everywhere, default
  payroll.auth           none      ≠  basic      d
  payroll.user           not set      test
  payroll.password       not set      (secret)
  rest_hours             11        d  11         d
  retry_limit            3  everywhere, default

                         staging              pro…
crew-roster
  badge-reader.user      reference-unknown    b… g
  badge-reader.password  (secret)          g  (… g
  bookings-db.host       db.staging…          ……
  bookings-db.port       5432  everywhere, default
  bookings-db.database   boo…  everywhere, default
  bookings-db.user       staging              f… g
  bookings-db.password   (secret)          g  (… g
  bookings-db.options    {"connect_timeou… d  …… ≠
  bookings-db.url        (secret)          =  (… =
  mail.host              mail.staging…        m…
  mail.port              25                d  5… g
  mail.url               …staging…         =  …… =
  mail.sender            …staging…         d  t…
  payroll.base           …staging…            h…
  payroll.timeout        30s  everywhere, default
  payroll.auth           basic             d  b… d
  payroll.user           staging              r… g
  payroll.password       (secret)          g  (… g
  rest_hours             11                d  11 d
  retry_limit            3  everywhere, default

                         prod-south
crew-roster
  badge-reader.user      badges                 f
  badge-reader.password  (secret)               f
  bookings-db.host       db.south…
  bookings-db.port       5432  everywhere, default
  bookings-db.database   boo…  everywhere, default
  bookings-db.user       ferries                f
  bookings-db.password   (secret)               f
  bookings-db.options    …,"sslmode":"verify-f… f≠
  bookings-db.url        (secret)               =
  mail.host              mail.brackwater.examp…
  mail.port              587                    f
  mail.url               …brackwater.example:5… =
  mail.sender            tickets@brackwater…    f
  payroll.base           https://payroll.test…
  payroll.timeout        30s  everywhere, default
  payroll.auth           basic                  d
  payroll.user           roster                 f
  payroll.password       (secret)               f
  rest_hours             12                     ≠
  retry_limit            3  everywhere, default

d default, g from a group, f followed,
= made from other fields, ≠ not as in most stages

"#]]);
    ledger.run_in_80("matrix --missing").code(0).stdout_eq(str![[r#"
                        dev     test                staging
crew-roster
  badge-reader.user     dev     test                reference-unknown
harbour-gate
  events.prefetch       -       wrong-type          -
  lock-controller.host  -       10.20.0.8           -
quay-screens
  events.prefetch       20   d  wrong-type          20                d
  region                none d  none             d  none              d
ticket-desk
  events.prefetch       20   d  wrong-type          20                d
  region                none    none                none
tide-watch
  events.prefetch       20   d  wrong-type          20                d
  look_ahead            36h  d  reference-circle    36h               d
  poll_every            2m   d  reference-circle    2m                d

                        prod-north    prod-south
crew-roster
  badge-reader.user     badges    g   badges   f
harbour-gate
  events.prefetch       100       g   100      f
  lock-controller.host  10.40.0.8     missing
quay-screens
  events.prefetch       100       g   100      f
  region                north     d≠  missing
ticket-desk
  events.prefetch       100       g   100      f
  region                north     ≠   missing
ticket-desk+kiosk
  region                north         missing
tide-watch
  events.prefetch       100       g   100      f
  look_ahead            36h       d   36h      d
  poll_every            2m        d   2m       d

d default, g from a group, f followed, ≠ not as in most stages,
- not in this stage

"#]]);
    ledger.run("matrix */*.host@prod-* --differing").code(0).stdout_eq(str![[r#"
                        prod-north                      prod-south
crew-roster
  bookings-db.host      db.north.brackwater.example     db.south.brackwater.example
fare-engine
  bookings-db.host      db.north.brackwater.example     db.south.brackwater.example
  listen.host           fares.north.brackwater.example  fares.south.brackwater.example
harbour-gate
  events.host           mq.north.brackwater.example     mq.south.brackwater.example
  lock-controller.host  10.40.0.8                       missing
night-mail
  bookings-db.host      db.north.brackwater.example     db.south.brackwater.example
quay-screens
  events.host           mq.north.brackwater.example     mq.south.brackwater.example
ticket-desk
  bookings-db.host      db.north.brackwater.example     db.south.brackwater.example
  events.host           mq.north.brackwater.example     mq.south.brackwater.example
ticket-desk+kiosk
  bookings-db.host      db.north.brackwater.example     db.south.brackwater.example
  events.host           mq.north.brackwater.example     mq.south.brackwater.example
tide-watch
  events.host           mq.north.brackwater.example     mq.south.brackwater.example


"#]]);
    ledger.run("matrix fare-engine/bookings-db --csv").code(0).stdout_eq(str![[r#"
field,dev,test,staging,prod-north,prod-south
fare-engine/bookings-db.host,localhost,db.test.brackwater.example,db.staging.brackwater.example,db.north.brackwater.example,db.south.brackwater.example
fare-engine/bookings-db.port,5432,5432,5432,5432,5432
fare-engine/bookings-db.database,bookings,bookings,bookings,bookings,bookings
fare-engine/bookings-db.user,dev,test,staging,ferries,ferries
fare-engine/bookings-db.password,(secret),(secret),(secret),(secret),(secret)
fare-engine/bookings-db.options,"{""connect_timeout"":""10""}","{""connect_timeout"":""10""}","{""connect_timeout"":""10""}","{""connect_timeout"":""10"",""sslmode"":""verify-full""}","{""connect_timeout"":""10"",""sslmode"":""verify-full""}"
fare-engine/bookings-db.url,(secret),(secret),(secret),(secret),(secret)

"#]]);
    ledger.run("matrix shared/mail@test").code(0).stdout_eq(str![[r#"
               test
shared
  mail.host    mail.test.brackwater.example
  mail.port    25                                     d
  mail.url     smtp://mail.test.brackwater.example:25 =
  mail.sender  no-reply@mail.test.brackwater.example  d

d default, = made from other fields

"#]]);
    ledger.run("matrix nothing").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `nothing` covers nothing
help: `cledger list` shows the names

"#]]);
}

#[test]
fn what_one_unit_or_value_is_asked_for_is_answered_from_few_files() {
    let ledger = TestLedger::demo();
    let read = |arguments: &str| -> usize {
        let (_, err) = written(&ledger.run(&format!("-v {arguments}")));
        let count = err.lines().find_map(|line| line.strip_prefix("read ")?.split(' ').next()?.parse().ok());
        count.unwrap_or_else(|| panic!("{arguments}: {err}"))
    };
    let all = read("check");
    // `ledger.toml`, the shared entries, the contract, the stage; then those of the unit that the text names.
    for (arguments, most) in [
        ("get ticket-desk/seat_hold@test", 4),
        ("get ticket-desk/fare_service@test", 5),
        ("trace ticket-desk/fare_service@test", 5),
        ("show ticket-desk@test", 6),
        ("matrix fare-engine", all - 1),
    ] {
        assert!(read(arguments) <= most, "{arguments}: {} of {all}", read(arguments));
    }
}

/// However narrow it is, no stage is left out, no line sticks out, and values that differ are told apart.
#[test]
fn what_is_looked_at_fits_and_leaves_no_stage_out() {
    let ledger = TestLedger::demo();
    let stages = ["dev", "test", "staging", "prod-north", "prod-south"];
    for width in [40, 60, 80, 120, 200] {
        for command in [
            "matrix",
            "matrix ticket-desk/events.host",
            "status",
            "compare @test @staging",
            "drift @prod-north",
        ] {
            let run = ledger.command(command).env("COLUMNS", width.to_string()).assert();
            let (out, _) = written(&run);
            let too_wide: Vec<&str> = out.lines().filter(|line| line.chars().count() > width).collect();
            // A narrow terminal cannot hold names in one piece.
            assert!(too_wide.is_empty() || width < 60, "{command} at {width}: {too_wide:#?}");
            if command != "compare @test @staging" && command != "drift @prod-north" {
                assert!(stages.iter().all(|stage| out.contains(stage)), "{command} at {width}: {out}");
            }
        }
        let run = ledger.command("matrix ticket-desk").env("COLUMNS", width.to_string()).assert();
        let (out, _) = written(&run);
        let host =
            out.lines().filter(|line| line.trim_start().starts_with("bookings-db.host")).collect::<String>();
        for part in ["localhost", "test", "staging", "north", "south"] {
            assert!(host.contains(part) || width < 60, "`{part}` at {width}: {host}");
        }
    }
    let run = ledger.command("matrix ticket-desk --wide").env("COLUMNS", "80").assert();
    assert!(written(&run).0.contains("http://fares.south.brackwater.example:8070/fares"));
    let (out, _) = written(&ledger.run("show ticket-desk@test --origins").code(0));
    assert!(out.contains("stages/test.toml:2") && !out.contains("\ntest     stages/test.toml"), "{out}");
    let (all, _) = written(&ledger.run("drift @prod-north").code(1));
    let (differing, _) = written(&ledger.run("drift @prod-north --differing").code(1));
    assert!(
        all.contains("as the ledger says: ") && !differing.contains("as the ledger says: "),
        "{differing}"
    );
    assert_eq!(all.lines().last(), differing.lines().last());
}
