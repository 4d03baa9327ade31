//! `compare`: what differs, and whether it is meant.

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

#[test]
fn compare_tells_meant_differences_from_others() {
    let ledger = TestLedger::demo();
    ledger
        .run_in_80("compare ticket-desk@staging ticket-desk@prod-north")
        .code(1)
        .stdout_eq(str![[r#"
ticket-desk
entry                 staging              prod-north
bookings-db.user      staging              ferries                      differs
bookings-db.options   {"connect_timeout":  {"connect_timeout":"10",     differs
                      "10"}                "sslmode":"verify-full"}
bookings-db.url       (secret)             (secret)                     differs
events.user           staging              ferries                      differs
events.url            (secret)             (secret)                     differs
events.prefetch       20                   100                          differs
languages             ["en","de"]          ["en","de","fr","nl"]        differs
tide-api.timeout      5s                   10s                          differs
bookings-db.host      db.staging           db.north.brackwater.example  as meant
                      .brackwater.example
bookings-db.password  (secret)             (secret)                     as meant
card-terminal.token   (secret)             (secret)                     as meant
events.host           mq.staging           mq.north.brackwater.example  as meant
                      .brackwater.example
events.password       (secret)             (secret)                     as meant
fare_service          http://fares         http://fares.north           as meant
                      .staging.brackwater  .brackwater.example:8070/
                      .example:8070/fares  fares
region                none                 north                        as meant
tide-api.base         https://tides        https://tides.brackwater     as meant
                      .staging.brackwater  .example/v2
                      .example/v2
tide-api.token        (secret)             (secret)                     as meant

differs: 12 the same, 9 different as meant, 8 different otherwise.

"#]])
        .stderr_eq("");
    ledger
        .run_in_80("compare @prod-north @prod-south")
        .code(1)
        .stdout_eq(str![[r#"
crew-roster
entry                  prod-north           prod-south
rest_hours             11                   12                    differs
badge-reader.password  (secret)             (secret)              as meant
bookings-db.host       db.north.brackwater  db.south.brackwater   as meant
                       .example             .example
bookings-db.password   (secret)             (secret)              as meant
bookings-db.url        (secret)             (secret)              as meant
payroll.base           https://payroll      https://payroll.test  as meant
                       .brackwater.example  .brackwater.example
payroll.password       (secret)             (secret)              as meant

fare-engine
entry                 prod-north              prod-south
bookings-db.host      db.north.brackwater     db.south.brackwater     as meant
                      .example                .example
bookings-db.password  (secret)                (secret)                as meant
bookings-db.url       (secret)                (secret)                as meant
listen.host           fares.north.brackwater  fares.south.brackwater  as meant
                      .example                .example
listen.url            tcp://fares.north       tcp://fares.south       as meant
                      .brackwater             .brackwater
                      .example:8070           .example:8070

harbour-gate
entry                 prod-north            prod-south
lock-controller.host  10.40.0.8             none         only in prod-north
lock-controller.url   tcp://10.40.0.8:4840  none         only in prod-north
events.host           mq.north.brackwater   mq.south     as meant
                      .example              .brackwater
                                            .example
events.password       (secret)              (secret)     as meant
events.url            (secret)              (secret)     as meant

night-mail
entry                 prod-north           prod-south
archive.password      (secret)             (secret)             as meant
archive.url           (secret)             (secret)             as meant
bookings-db.host      db.north.brackwater  db.south.brackwater  as meant
                      .example             .example
bookings-db.password  (secret)             (secret)             as meant
bookings-db.url       (secret)             (secret)             as meant

quay-screens
entry            prod-north           prod-south
region           north                none                   only in prod-north
events.host      mq.north.brackwater  mq.south.brackwater    as meant
                 .example             .example
events.password  (secret)             (secret)               as meant
events.url       (secret)             (secret)               as meant
greeting         Welcome aboard in    Welcome aboard in the  as meant
                 the north            south
tide-api.token   (secret)             (secret)               as meant

ticket-desk
entry                 prod-north          prod-south
region                north               none                only in prod-north
bookings-db.host      db.north            db.south            as meant
                      .brackwater         .brackwater
                      .example            .example
bookings-db.password  (secret)            (secret)            as meant
bookings-db.url       (secret)            (secret)            as meant
card-terminal.token   (secret)            (secret)            as meant
events.host           mq.north            mq.south            as meant
                      .brackwater         .brackwater
                      .example            .example
events.password       (secret)            (secret)            as meant
events.url            (secret)            (secret)            as meant
fare_service          http://fares.north  http://fares.south  as meant
                      .brackwater         .brackwater
                      .example:8070/      .example:8070/
                      fares               fares
tide-api.token        (secret)            (secret)            as meant

ticket-desk+kiosk
entry                 prod-north          prod-south
region                north               none                only in prod-north
seat_hold             2m                  90s                 differs
bookings-db.host      db.north            db.south            as meant
                      .brackwater         .brackwater
                      .example            .example
bookings-db.password  (secret)            (secret)            as meant
bookings-db.url       (secret)            (secret)            as meant
card-terminal.token   (secret)            (secret)            as meant
events.host           mq.north            mq.south            as meant
                      .brackwater         .brackwater
                      .example            .example
events.password       (secret)            (secret)            as meant
events.url            (secret)            (secret)            as meant
fare_service          http://fares.north  http://fares.south  as meant
                      .brackwater         .brackwater
                      .example:8070/      .example:8070/
                      fares               fares
tide-api.token        (secret)            (secret)            as meant

tide-watch
entry            prod-north                     prod-south
alarm_to         ["watch@brackwater.example",   ["watch@brackwater   as meant
                 "harbour@brackwater.example"]  .example"]
events.host      mq.north.brackwater.example    mq.south.brackwater  as meant
                                                .example
events.password  (secret)                       (secret)             as meant
events.url       (secret)                       (secret)             as meant
tide-api.token   (secret)                       (secret)             as meant

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

#[test]
fn files_are_compared_with_each_other_and_with_a_unit() {
    let ledger = TestLedger::demo();
    let old = "file:../legacy/berth-planner";
    ledger
        .run(&format!("compare {old}/test/planner.properties {old}/prod-south/planner.properties"))
        .code(1)
        .stderr_eq("")
        .stdout_eq(str![[r#"
first   file:../legacy/berth-planner/test/planner.properties
second  file:../legacy/berth-planner/prod-south/planner.properties

name                     first                                     second
berths.db.host           db.test.brackwater.example                db.south.brackwater.example          differs
berths.db.user           none                                      planner                              only in the second
berths.db.username       planner_test                              none                                 only in the first
planner.archive.dir      /var/lib/berths/test                      /var/lib/berths/prod-south           differs
planner.notify-crew      no                                        maybe                                differs
planner.slots-per-berth  2                                         6                                    differs
planner.tow-boats        true                                      none                                 only in the first
tides.timeout            2s                                        10s                                  differs
tides.url                https://tides.test.brackwater.example/v2  https://tides.brackwater.example/v2  differs

differs: 6 the same, 6 different, 2 only in the first, 1 only in the second.

"#]]);
    // In another format the same names are spelled otherwise; secrets stay masked.
    ledger.write("a.env", "SEAT_HOLD=5m\nDB_PASSWORD=one\nLIMIT=7\n");
    ledger.write("b.json", "{\"seatHold\": \"5m\", \"db\": {\"password\": \"two\"}, \"limit\": 7}");
    ledger.run("compare file:a.env file:b.json --all").code(1).stdout_eq(str![[r#"
first   file:a.env
second  file:b.json

name         first     second
DB_PASSWORD  (secret)  (secret)  differs
LIMIT        7         7         same
SEAT_HOLD    5m        5m        same

differs: 2 the same, 1 different.

"#]]);
    let live = "file:../live/prod-north/ticket-desk/ticket-desk.env";
    ledger.run(&format!("compare ticket-desk@prod-north {live}")).code(1).stdout_eq(str![[r#"
first   ticket-desk@prod-north
second  file:../live/prod-north/ticket-desk/ticket-desk.env

name              first                  second
BOOKINGS_DB_PORT  5432                   6432    differs
DEBUG_PAGE        none                   on      only in the second
LANGUAGES         ["en","de","fr","nl"]  none    only in the first
SEAT_HOLD         5m                     9m      differs

differs: 21 the same, 2 different, 1 only in the first, 1 only in the second.

"#]]);
    ledger.run("render ticket-desk@prod-north --out out --countersign prod-north").code(0);
    ledger.run("compare file:out/ticket-desk/ticket-desk.env ticket-desk@prod-north").code(0);
    for (arguments, message) in [
        ("file:absent.env ticket-desk@test", "error: `absent.env` cannot be read: it is not there"),
        ("file:a.env @test", "error: `@test` names no unit in a stage"),
        ("file:ledger.toml file:LICENSE", "error: `LICENSE` cannot be read"),
    ] {
        let (out, err) = written(&ledger.run(&format!("compare {arguments}")).code(2));
        assert!(out.is_empty() && err.starts_with(message), "{arguments}: {err}");
    }
    ledger.write("half.json", "{\n\n");
    let (_, err) = written(&ledger.run("compare file:half.json file:a.env").code(2));
    assert!(err.starts_with("error: half.json:3: "), "{err}");
}

/// Files are compared by what they are made of: rows and maps by their keys, archives by their members.
#[test]
fn files_are_compared_by_their_structure() {
    let ledger = TestLedger::small();
    let archive = |path: &str, members: &[(&str, &[u8])]| {
        let mut writer = zip::ZipWriter::new(std::fs::File::create(ledger.path(path)).unwrap());
        for (name, bytes) in members {
            writer.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
            std::io::Write::write_all(&mut writer, bytes).unwrap();
        }
        writer.finish().unwrap();
    };
    archive("a.zip", &[("app.json", b"{\"x\": 1}"), ("logo", &[0xff, 1]), ("same.env", b"A=1\n")]);
    archive("b.zip", &[("app.json", b"{\"x\": 2}"), ("logo", &[0xff, 2]), ("same.env", b"A=1\n")]);
    for (path, text) in [
        ("a.csv", "id,name,berths\n1,North,3\n2,South,4\n"),
        ("b.csv", "name,berths,id\nSouth,5,2\nNorth,3,1\nWest,1,9\n"),
        (
            "a.json",
            "{\"l\": [{\"code\": \"en\", \"w\": 1}, {\"code\": \"de\", \"w\": 2}], \"n\": null, \"k\": [{\"id\": 1, \"p\": [{\"name\": \"x\", \"v\": 1}]}]}",
        ),
        (
            "b.json",
            "{\"l\": [{\"code\": \"de\", \"w\": 3}, {\"code\": \"en\", \"w\": 1}], \"k\": [{\"id\": 1, \"p\": [{\"name\": \"x\", \"v\": 2}]}]}",
        ),
    ] {
        ledger.write(path, text);
    }
    // Each case: what is asked, the status, what is told, and what is not.
    let cases: [(&str, i32, &[&str], &[&str]); 9] = [
        (
            "file:a.csv file:b.csv",
            1,
            &["South.berths  4      5       differs", "West.berths   none   1       only in the second"],
            &["North"],
        ),
        ("file:a.csv file:b.csv --match id", 1, &["2.berths  4      5       differs"], &["1."]),
        ("file:a.csv file:b.csv --structure", 1, &["West.id"], &["South"]),
        (
            "file:a.json file:b.json --match code",
            1,
            &["l.de.w    2      3       differs", "k.1.p.x.v  1", "n"],
            &["l.en"],
        ),
        ("file:a.json file:a.json", 0, &["the same"], &["differs"]),
        ("file:a.zip file:b.zip", 1, &["app.json.x  1", "logo"], &["same.env"]),
        ("a.csv file:b.csv", 2, &["`a.csv` is a file", "write file:a.csv"], &[]),
        ("file:a.json file:a.json --match nothing", 2, &["`nothing` tells nothing apart"], &["the same:"]),
        ("@dev @prod --structure", 2, &["--match and --structure are for two files"], &[]),
    ];
    for (asked, code, told, untold) in cases {
        let (out, err) = written(&ledger.run(&format!("compare {asked}")).code(code));
        let said = out + &err;
        for part in told {
            let squeezed = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
            assert!(squeezed(&said).contains(&squeezed(part)), "{asked}: {part}: {said}");
        }
        for part in untold {
            assert!(!said.contains(part), "{asked}: {part}: {said}");
        }
    }
}
