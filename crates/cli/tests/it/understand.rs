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

refers to                     which is          from
tide-watch/poll_every@test    reference-circle  stages/test.toml:35
  tide-watch/look_ahead@test  reference-circle  (see above)

It is look_ahead in tide-watch.json.

"#]]);
    ledger.run_in_80("trace crew-roster/bookings-db.url@prod-north").code(0).stdout_eq(str![[r#"
crew-roster/bookings-db.url@prod-north  (secret)

It is made from other fields.

refers to                   which is                    from
crew-roster/bookings-db.ho  db.north.brackwater.exampl  stages/prod-north.toml:2
st@prod-north               e
crew-roster/bookings-db.po  5432                        default shared.toml:3
rt@prod-north
crew-roster/bookings-db.us  ferries                     groups/production.toml:2
er@prod-north
crew-roster/bookings-db.pa  (secret)                    groups/guarded.toml:3
ssword@prod-north
crew-roster/bookings-db.op  {"connect_timeout":"10","s  stages/prod-north.toml:3
tions@prod-north            slmode":"verify-full"}
crew-roster/bookings-db.da  bookings                    default shared.toml:6
tabase@prod-north

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
                        dev        test       staging    prod-north  prod-south
ticket-desk
  bookings-db.host      localhost  db.test.…  db.stagi…  db.north…   db.south…
  bookings-db.port      5432 d     5432 d     5432 d     5432 d      5432 d
  bookings-db.database  bookin… d  bookin… d  bookin… d  bookin… d   bookin… d
  bookings-db.user      dev        test       staging    ferries g   ferries f
  bookings-db.password  (secret)   (secret)   (secre… g  (secre… g   (secre… f
  bookings-db.options   {"conn… d  {"conn… d  {"conn… d  {"connec…   {"conn… f
  bookings-db.url       (secre… =  (secre… =  (secre… =  (secre… =   (secre… =
  card-terminal.token   (secret)   (secret)   (secre… g  (secre… g   (secre… f
  currency              BRK d      BRK d      BRK d      BRK d       BRK d
  events.host           localhost  mq.test.…  mq.stagi…  mq.north…   mq.south…
  events.port           5672 d     5672 d     5672 d     5672 d      5672 d
  events.path           ferries d  ferries d  ferries d  ferries d   ferries d
  events.user           guest      test       staging    ferries g   ferries f
  events.password       (secret)   (secret)   (secre… g  (secre… g   (secre… f
  events.url            (secre… =  (secre… =  (secre… =  (secre… =   (secre… =
  events.prefetch       20 d       wrong-ty…  20 d       100 g       100 f
  fare_service          http:/… d  http:/… d  http:/… d  http:/… d   http:/… d
  languages             ["en",… d  ["en",… d  ["en",… d  ["en",… g   ["en",… f
  region                none       none       none       north       missing
  seat_hold             5m d       30s        5m d       5m d        5m d
  tide-api.base         http://l…  https://…  https://…  https://…   https://…
  tide-api.timeout      5s d       5s d       5s d       10s g       10s f
  tide-api.auth         bearer d   bearer d   bearer d   bearer d    bearer d
  tide-api.token        (secret)   (secret)   (secre… g  (secre… g   (secret)
ticket-desk+kiosk
  bookings-db.host      -          -          -          db.north…   db.south…
  bookings-db.port      -          -          -          5432 d      5432 d
  bookings-db.database  -          -          -          bookin… d   bookin… d
  bookings-db.user      -          -          -          ferries g   ferries f
  bookings-db.password  -          -          -          (secre… g   (secre… f
  bookings-db.options   -          -          -          {"connec…   {"conn… f
  bookings-db.url       -          -          -          (secre… =   (secre… =
  card-terminal.token   -          -          -          (secre… g   (secre… f
  currency              -          -          -          BRK d       BRK d
  events.host           -          -          -          mq.north…   mq.south…
  events.port           -          -          -          5672 d      5672 d
  events.path           -          -          -          ferries d   ferries d
  events.user           -          -          -          ferries g   ferries f
  events.password       -          -          -          (secre… g   (secre… f
  events.url            -          -          -          (secre… =   (secre… =
  events.prefetch       -          -          -          100 g       100 f
  fare_service          -          -          -          http:/… d   http:/… d
  languages             -          -          -          ["en",… g   ["en",… f
  region                -          -          -          north       missing
  seat_hold             -          -          -          2m          90s
  tide-api.base         -          -          -          https://…   https://…
  tide-api.timeout      -          -          -          10s g       10s f
  tide-api.auth         -          -          -          bearer d    bearer d
  tide-api.token        -          -          -          (secre… g   (secret)

d default, g from a group, f followed, = made from other fields; … goes on

"#]])
        .stderr_eq("");
    ledger.command("matrix crew-roster").env("COLUMNS", "50").assert().code(0).stdout_eq(str![[r#"
                         dev         test
crew-roster
  badge-reader.user      dev         test
  badge-reader.password  (secret)    (secret)
  bookings-db.host       localhost   db.test.b…
  bookings-db.port       5432 d      5432 d
  bookings-db.database   bookings d  bookings d
  bookings-db.user       dev         test
  bookings-db.password   (secret)    (secret)
  bookings-db.options    {"conne… d  {"conne… d
  bookings-db.url        (secret) =  (secret) =
  mail.host              localhost   mail.test…
  mail.port              2525        25 d
  mail.url               smtp://… =  smtp://… =
  mail.sender            no-repl… d  no-repl… d
  payroll.base           http://lo…  https://p…
  payroll.timeout        30s d       30s d
  payroll.auth           none        basic d
  payroll.user                       test
  payroll.password                   (secret)
  rest_hours             11 d        11 d
  retry_limit            3 d         3 d

d default, g from a group, f followed, = made from other fields; … goes on
left out for want of room: 3 stages: staging, prod-north, prod-south

"#]]);
    ledger.run_in_80("matrix --missing").code(0).stdout_eq(str![[r#"
                        dev     test       staging    prod-north  prod-south
crew-roster
  badge-reader.user     dev     test       referenc…  badges g    badges f
harbour-gate
  events.prefetch       -       wrong-ty…  -          100 g       100 f
  lock-controller.host  -       10.20.0.8  -          10.40.0.8   missing
quay-screens
  events.prefetch       20 d    wrong-ty…  20 d       100 g       100 f
  region                none d  none d     none d     north d     missing
ticket-desk
  events.prefetch       20 d    wrong-ty…  20 d       100 g       100 f
  region                none    none       none       north       missing
ticket-desk+kiosk
  region                -       -          -          north       missing
tide-watch
  events.prefetch       20 d    wrong-ty…  20 d       100 g       100 f
  look_ahead            36h d   referenc…  36h d      36h d       36h d
  poll_every            2m d    referenc…  2m d       2m d        2m d

d default, g from a group, f followed, = made from other fields; … goes on

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

d default, g from a group, f followed, = made from other fields; … goes on

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
  mail.port    25 d
  mail.url     smtp://mail.test.brackwater.example:25 =
  mail.sender  no-reply@mail.test.brackwater.example d

d default, g from a group, f followed, = made from other fields; … goes on

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
