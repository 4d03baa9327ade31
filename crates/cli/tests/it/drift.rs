//! `drift`: rendered files read back and compared.

use std::fs;

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

#[test]
fn drift_tells_what_was_changed_by_hand() {
    let ledger = TestLedger::demo();
    ledger
        .run_in_80("drift @prod-north --observed ../live/prod-north")
        .code(1)
        .stdout_eq(str![[r#"
crew-roster
  roster.json
  name         ledger  there
  retry_limit  3       5      differs
  roster.env
  name         ledger  there
  RETRY_LIMIT  3       5      differs
fare-engine
  fares.yaml
  name                  ledger    there
  bookings-db.password  (secret)  (secret)  differs
  bookings-db.url       (secret)  (secret)  differs
night-mail   not there
ticket-desk
  ticket-desk.env
  name              ledger                 there
  BOOKINGS_DB_PORT  5432                   6432         differs
  LANGUAGES         ["en","de","fr","nl"]  none         missing there
  SEAT_HOLD         5m                     9m           differs
  DEBUG_PAGE        none                   (not shown)  extra there
tide-watch
  tide-watch.json  cannot be read: line 12: EOF while parsing a string
old-gate     there, but not in the ledger
as the ledger says: harbour-gate, quay-screens, ticket-desk+kiosk

drift: 6 of 9 units are not as the ledger says.

"#]])
        .stderr_eq("");
    ledger.run("drift harbour-gate@prod-north --observed ../live/prod-north").code(0).stdout_eq(str![[r#"
as the ledger says: harbour-gate

no drift: 1 unit as the ledger says.

"#]]);
}

#[test]
fn what_was_rendered_has_not_drifted() {
    let ledger = TestLedger::demo();
    ledger.run("render @prod-north --out ../out --countersign prod-north").code(0);
    ledger.run("drift @prod-north --observed ../out").code(0).stdout_eq(str![[r#"
as the ledger says: crew-roster, fare-engine, harbour-gate, night-mail, quay-screens, ticket-desk, ticket-desk+kiosk, tide-watch

no drift: 8 units as the ledger says.

"#]]);
}

#[test]
fn every_sort_of_drift_is_told() {
    let ledger = TestLedger::small();
    let live = |name: &str, text: &str| ledger.write(&format!("live/{name}"), text);
    live(
        "desk/desk.env",
        "HOLD=5m\nREGION=\"north\"\nDB_HOST='other.example'\nEXTRA=\"a secret?\"\nDB_PORT=5432\n",
    );
    ledger.run("drift @dev --observed live").code(1).stdout_eq(str![[r#"
desk
  desk.env
  name         ledger          there
  DB_DATABASE  tides           none           missing there
  DB_HOST      db.dev.example  other.example  differs
  DB_PASSWORD  (secret)        none           missing there
  DB_URL       (secret)        none           missing there
  DB_USER      dev             none           missing there
  EXTRA        none            (not shown)    extra there

drift: 1 of 1 unit is not as the ledger says.

"#]]);
    live("desk/desk.env", "this is no\nenvironment file\n");
    ledger.run("drift @dev --observed live").code(1).stdout_eq(str![[r#"
desk
  desk.env  cannot be read: line 1: this is not NAME=value

drift: 1 of 1 unit is not as the ledger says.

"#]]);
    fs::remove_file(ledger.path("live/desk/desk.env")).unwrap();
    ledger.run("drift @dev --observed live").code(1).stdout_eq(str![[r#"
desk
  desk.env  not there

drift: 1 of 1 unit is not as the ledger says.

"#]]);
    fs::remove_dir(ledger.path("live/desk")).unwrap();
    ledger.run("drift @dev --observed live").code(1).stdout_eq(str![[r#"
desk  not there

drift: 1 of 1 unit is not as the ledger says.

"#]]);
    ledger.run("drift @dev --observed nowhere").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `nowhere` cannot be read: No such file or directory (os error 2)
help: name the folder that holds a folder for each unit

"#]]);
}

#[test]
fn drift_shows_no_secret() {
    let ledger = TestLedger::small();
    ledger.write("live/desk/desk.env", "DB_PASSWORD=high-tide\nAPI_TOKEN=of-somebody\n");
    for arguments in ["drift @dev --observed live", "drift @dev --observed live --json"] {
        let (out, err) = written(&ledger.run(arguments).code(1));
        for secret in ["high-tide", "of-somebody", "low-tide-dev"] {
            assert!(!out.contains(secret) && !err.contains(secret), "{secret} in {out}{err}");
        }
    }
}
