//! `compare`: what differs, and whether it is meant.

use snapbox::str;

use crate::test_ledger::TestLedger;

#[test]
fn compare_tells_meant_differences_from_others() {
    let ledger = TestLedger::demo();
    ledger
        .run_in_80("compare ticket-desk@staging ticket-desk@prod-north")
        .code(1)
        .stdout_eq(str![[r#"
ticket-desk
entry                 staging                  prod-north
bookings-db.user      staging                  ferries                  differs
bookings-db.options   {"connect_timeout":"10"  {"connect_timeout":"10"  differs
                      }                        ,"sslmode":"verify-full
                                               "}
bookings-db.url       (secret)                 (secret)                 differs
events.user           staging                  ferries                  differs
events.url            (secret)                 (secret)                 differs
events.prefetch       20                       100                      differs
languages             ["en","de"]              ["en","de","fr","nl"]    differs
tide-api.timeout      5s                       10s                      differs
bookings-db.host      db.staging.brackwater.e  db.north.brackwater.exa  as meant
                      xample                   mple
bookings-db.password  (secret)                 (secret)                 as meant
card-terminal.token   (secret)                 (secret)                 as meant
events.host           mq.staging.brackwater.e  mq.north.brackwater.exa  as meant
                      xample                   mple
events.password       (secret)                 (secret)                 as meant
fare_service          http://fares.staging.br  http://fares.north.brac  as meant
                      ackwater.example:8070/f  kwater.example:8070/far
                      ares                     es
region                none                     north                    as meant
tide-api.base         https://tides.staging.b  https://tides.brackwate  as meant
                      rackwater.example/v2     r.example/v2
tide-api.token        (secret)                 (secret)                 as meant

differs: 12 the same, 9 different as meant, 8 different otherwise.

"#]])
        .stderr_eq("");
    ledger
        .run_in_80("compare @prod-north @prod-south")
        .code(1)
        .stdout_eq(str![[r#"
crew-roster
entry                  prod-north               prod-south
rest_hours             11                       12                      differs
badge-reader.password  (secret)                 (secret)                as meant
bookings-db.host       db.north.brackwater.exa  db.south.brackwater.ex  as meant
                       mple                     ample
bookings-db.password   (secret)                 (secret)                as meant
bookings-db.url        (secret)                 (secret)                as meant
payroll.base           https://payroll.brackwa  https://payroll.test.b  as meant
                       ter.example              rackwater.example
payroll.password       (secret)                 (secret)                as meant

fare-engine
entry                 prod-north               prod-south
bookings-db.host      db.north.brackwater.exa  db.south.brackwater.exa  as meant
                      mple                     mple
bookings-db.password  (secret)                 (secret)                 as meant
bookings-db.url       (secret)                 (secret)                 as meant
listen.host           fares.north.brackwater.  fares.south.brackwater.  as meant
                      example                  example
listen.url            tcp://fares.north.brack  tcp://fares.south.brack  as meant
                      water.example:8070       water.example:8070

harbour-gate
entry                 prod-north          prod-south
lock-controller.host  10.40.0.8           none                only in prod-north
lock-controller.url   tcp://10.40.0.8:48  none                only in prod-north
                      40
events.host           mq.north.brackwate  mq.south.brackwate  as meant
                      r.example           r.example
events.password       (secret)            (secret)            as meant
events.url            (secret)            (secret)            as meant

night-mail
entry                 prod-north               prod-south
archive.password      (secret)                 (secret)                 as meant
archive.url           (secret)                 (secret)                 as meant
bookings-db.host      db.north.brackwater.exa  db.south.brackwater.exa  as meant
                      mple                     mple
bookings-db.password  (secret)                 (secret)                 as meant
bookings-db.url       (secret)                 (secret)                 as meant

quay-screens
entry            prod-north             prod-south
region           north                  none                  only in prod-north
events.host      mq.north.brackwater.e  mq.south.brackwater.  as meant
                 xample                 example
events.password  (secret)               (secret)              as meant
events.url       (secret)               (secret)              as meant
greeting         Welcome aboard in the  Welcome aboard in     as meant
                 north                  the south
tide-api.token   (secret)               (secret)              as meant

ticket-desk
entry                 prod-north          prod-south
region                north               none                only in prod-north
bookings-db.host      db.north.brackwate  db.south.brackwate  as meant
                      r.example           r.example
bookings-db.password  (secret)            (secret)            as meant
bookings-db.url       (secret)            (secret)            as meant
card-terminal.token   (secret)            (secret)            as meant
events.host           mq.north.brackwate  mq.south.brackwate  as meant
                      r.example           r.example
events.password       (secret)            (secret)            as meant
events.url            (secret)            (secret)            as meant
fare_service          http://fares.north  http://fares.south  as meant
                      .brackwater.exampl  .brackwater.exampl
                      e:8070/fares        e:8070/fares
tide-api.token        (secret)            (secret)            as meant

ticket-desk+kiosk
entry                 prod-north          prod-south
region                north               none                only in prod-north
seat_hold             2m                  90s                 differs
bookings-db.host      db.north.brackwate  db.south.brackwate  as meant
                      r.example           r.example
bookings-db.password  (secret)            (secret)            as meant
bookings-db.url       (secret)            (secret)            as meant
card-terminal.token   (secret)            (secret)            as meant
events.host           mq.north.brackwate  mq.south.brackwate  as meant
                      r.example           r.example
events.password       (secret)            (secret)            as meant
events.url            (secret)            (secret)            as meant
fare_service          http://fares.north  http://fares.south  as meant
                      .brackwater.exampl  .brackwater.exampl
                      e:8070/fares        e:8070/fares
tide-api.token        (secret)            (secret)            as meant

tide-watch
entry            prod-north                  prod-south
alarm_to         ["watch@brackwater.example  ["watch@brackwater.exampl  as meant
                 ","harbour@brackwater.exam  e"]
                 ple"]
events.host      mq.north.brackwater.exampl  mq.south.brackwater.examp  as meant
                 e                           le
events.password  (secret)                    (secret)                   as meant
events.url       (secret)                    (secret)                   as meant
tide-api.token   (secret)                    (secret)                   as meant

differs: 132 the same, 47 different as meant, 7 different otherwise.

"#]])
        .stderr_eq("");
}

#[test]
fn compare_is_clean_when_every_difference_is_meant() {
    let ledger = TestLedger::small();
    for (stage, host) in [("dev", "one.example"), ("prod", "two.example")] {
        let region = if stage == "dev" { "north" } else { "south" };
        let text = format!(
            "[shared.db]\nhost = \"{host}\"\nuser = \"ferry\"\npassword = {{ from = \"env:DB_{stage}\" }}\n\
             [units.desk]\nregion = \"{region}\"\n"
        );
        ledger.write(&format!("stages/{stage}.toml"), text);
    }
    let run = ledger.command("compare @dev @prod").env("DB_dev", "a").env("DB_prod", "b");
    run.assert().code(0).stdout_eq(str![[r#"
desk
entry        dev          prod
db.host      one.example  two.example  as meant
db.password  (secret)     (secret)     as meant
db.url       (secret)     (secret)     as meant
region       north        south        as meant

as meant: 5 the same, 4 different as meant, 0 different otherwise.

"#]]);
    // The same secret in two classes is not meant, and both are masked.
    let run = ledger.command("compare desk@dev desk@prod").env("DB_dev", "a").env("DB_prod", "a");
    run.assert().stdout_eq(str![[r#"
desk
entry    dev          prod
db.host  one.example  two.example  as meant
db.url   (secret)     (secret)     as meant
region   north        south        as meant

as meant: 6 the same, 3 different as meant, 0 different otherwise.

"#]]);
    ledger.run("compare @dev @dev").code(0).stdout_eq(str![[r#"
the same: 9 the same, 0 different as meant, 0 different otherwise.

"#]]);
}

#[test]
fn compare_needs_two_sides_of_one_kind() {
    let ledger = TestLedger::demo();
    ledger.run("compare @test").code(2).stdout_eq("");
    ledger.run("compare @test ticket-desk@prod-north").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `@test` is a whole stage, and `ticket-desk@prod-north` is not
help: name the unit on the left side, or on neither

"#]]);
    ledger.run("compare ticket-desk@test fare-engine@test").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `ticket-desk` and `fare-engine` are different units, whose entries do not correspond
help: compare one unit in two stages: ticket-desk@test @test

"#]]);
    ledger.run("compare @test @nowhere").code(2).stdout_eq("").stderr_eq(str![[r#"
error: there is no stage `nowhere`
help: the stages are dev, test, staging, prod-north, prod-south

"#]]);
}
