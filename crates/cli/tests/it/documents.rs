//! The JSON documents, for programs.

use serde_json::Value;
use snapbox::str;

use crate::test_ledger::{TestLedger, written};

fn document(ledger: &TestLedger, arguments: &str, status: i32) -> Value {
    let (out, _) = written(&ledger.run(&format!("{arguments} --json")).code(status));
    assert_eq!(out.lines().count(), 1, "one document and nothing else");
    let document: Value = serde_json::from_str(&out).unwrap();
    assert_eq!(document["format"], 1);
    document
}

fn pretty(document: &Value) -> String {
    serde_json::to_string_pretty(document).unwrap()
}

#[test]
fn show_is_as_designed() {
    let ledger = TestLedger::small();
    ledger.write(
        "stages/prod.toml",
        "[shared.db]\nhost = \"db.prod.example\"\nuser = 5\npassword = { from = \"env:DB\" }\n",
    );
    snapbox::assert_data_eq!(
        pretty(&document(&ledger, "show desk@prod", 0)),
        str![[r#"
{
  "class": "production",
  "format": 1,
  "instance": null,
  "missing": [
    {
      "address": "desk/db.password@prod"
    },
    {
      "address": "desk/region@prod"
    }
  ],
  "problems": [
    {
      "address": "desk/db.user@prod",
      "code": "wrong-type"
    }
  ],
  "stage": "prod",
  "unit": "desk",
  "values": [
    {
      "address": "desk/db.database@prod",
      "origin": {
        "column": 27,
        "file": "shared.toml",
        "layer": "default",
        "line": 3,
        "name": null
      },
      "secret": false,
      "type": "text",
      "value": "tides"
    },
    {
      "address": "desk/db.host@prod",
      "origin": {
        "column": 8,
        "file": "stages/prod.toml",
        "layer": "stage",
        "line": 2,
        "name": "prod"
      },
      "secret": false,
      "type": "host",
      "value": "db.prod.example"
    },
    {
      "address": "desk/db.port@prod",
      "origin": {
        "column": 14,
        "file": "shared.toml",
        "layer": "default",
        "line": 1,
        "name": null
      },
      "secret": false,
      "type": "port",
      "value": 5432
    },
    {
      "address": "desk/hold@prod",
      "origin": {
        "column": 11,
        "file": "units/desk.toml",
        "layer": "default",
        "line": 4,
        "name": null
      },
      "secret": false,
      "type": "duration",
      "value": "5m"
    }
  ]
}
"#]]
    );
    let all = document(&TestLedger::demo(), "show ticket-desk+kiosk@prod-north", 0);
    let addresses: Vec<&str> =
        all["values"].as_array().unwrap().iter().map(|value| value["address"].as_str().unwrap()).collect();
    assert!(addresses.is_sorted(), "sorted by the bytes of the address");
    assert_eq!(all["instance"], "kiosk");
}

#[test]
fn check_is_as_designed() {
    let ledger = TestLedger::small();
    ledger.write("stages/prod.toml", "[units.desk]\nregion = \"west\"\n");
    snapbox::assert_data_eq!(
        pretty(&document(&ledger, "check desk/region", 1)),
        str![[r#"
{
  "counts": {
    "error": 1,
    "warning": 0
  },
  "findings": [
    {
      "address": "desk/region@prod",
      "code": "not-allowed",
      "column": 10,
      "file": "stages/prod.toml",
      "help": "write one of north, south",
      "line": 2,
      "message": "the value of `region` breaks `one_of`: it must be one of north, south",
      "severity": "error"
    }
  ],
  "format": 1
}
"#]]
    );
}

#[test]
fn the_others_say_what_their_text_says() {
    let ledger = TestLedger::demo();
    let compared = document(&ledger, "compare fare-engine@staging fare-engine@prod-north", 1);
    let of =
        |meant: bool| compared["fields"].as_array().unwrap().iter().filter(|f| f["meant"] == meant).count();
    assert_eq!((of(true), of(false)), (12, 4));
    snapbox::assert_data_eq!(
        pretty(&compared["fields"][0]),
        str![[r#"
{
  "difference": "as-meant",
  "left": "fare-engine/bookings-db.host@staging",
  "left_value": "db.staging.brackwater.example",
  "meant": true,
  "right": "fare-engine/bookings-db.host@prod-north",
  "right_value": "db.north.brackwater.example",
  "secret": false
}
"#]]
    );
    let drifted = document(&ledger, "drift @prod-north --observed ../live/prod-north", 1);
    snapbox::assert_data_eq!(
        pretty(&drifted["units"][5]),
        str![[r#"
{
  "files": [
    {
      "names": [
        {
          "address": "ticket-desk/bookings-db.port@prod-north",
          "drift": "differs",
          "ledger": "5432",
          "name": "BOOKINGS_DB_PORT",
          "secret": false,
          "there": "6432",
          "waived": false
        },
        {
          "address": "ticket-desk/languages@prod-north",
          "drift": "missing there",
          "ledger": "[/"en/",/"de/",/"fr/",/"nl/"]",
          "name": "LANGUAGES",
          "secret": false,
          "there": null,
          "waived": false
        },
        {
          "address": "ticket-desk/seat_hold@prod-north",
          "drift": "differs",
          "ledger": "5m",
          "name": "SEAT_HOLD",
          "secret": false,
          "there": "9m",
          "waived": false
        },
        {
          "address": null,
          "drift": "extra there",
          "ledger": null,
          "name": "DEBUG_PAGE",
          "secret": true,
          "there": null,
          "waived": false
        }
      ],
      "path": "ticket-desk.env",
      "reason": null,
      "state": "drifted"
    }
  ],
  "outlet": null,
  "stage": "prod-north",
  "state": "drifted",
  "unit": "ticket-desk"
}
"#]]
    );
    let rendered = document(&ledger, "render fare-engine@prod-north --out out --countersign prod-north", 0);
    snapbox::assert_data_eq!(
        pretty(&rendered),
        str![[r#"
{
  "files": [
    {
      "path": "out/fare-engine/fares.yaml",
      "secret": true,
      "written": "new"
    }
  ],
  "format": 1,
  "gaps": [],
  "stage": "prod-north"
}
"#]]
    );
    let listed = document(&ledger, "list stages", 0);
    snapbox::assert_data_eq!(
        pretty(&listed["stages"][4]),
        str![[r#"
{
  "after": [
    "staging"
  ],
  "class": "production",
  "follows": [
    "prod-north"
  ],
  "groups": [
    "guarded",
    "production"
  ],
  "locked": true,
  "name": "prod-south"
}
"#]]
    );
    let got = document(&ledger, "get ticket-desk/seat_hold@test", 0);
    snapbox::assert_data_eq!(
        pretty(&got),
        str![[r#"
{
  "address": "ticket-desk/seat_hold@test",
  "format": 1,
  "origin": {
    "column": 13,
    "file": "stages/test.toml",
    "layer": "stage",
    "line": 21,
    "name": "test"
  },
  "secret": false,
  "type": "duration",
  "value": "30s"
}
"#]]
    );
}

#[test]
fn an_error_is_a_document_too() {
    let ledger = TestLedger::small();
    snapbox::assert_data_eq!(
        pretty(&document(&ledger, "show dsek@dev", 2)),
        str![[r#"
{
  "error": {
    "help": "did you mean `desk`?",
    "message": "there is no unit `dsek`",
    "mistakes": []
  },
  "format": 1
}
"#]]
    );
    ledger.write("ledger.toml", "format = 1\nnmae = \"x\"\n");
    snapbox::assert_data_eq!(
        pretty(&document(&ledger, "check", 2)),
        str![[r#"
{
  "error": {
    "help": null,
    "message": "the ledger cannot be read: 2 mistakes were found",
    "mistakes": [
      {
        "column": 1,
        "file": "ledger.toml",
        "help": "write name = /"…/"",
        "line": 1,
        "message": "the ledger has no `name`"
      },
      {
        "column": 1,
        "file": "ledger.toml",
        "help": "did you mean `name`?",
        "line": 2,
        "message": "unknown key `nmae`"
      }
    ]
  },
  "format": 1
}
"#]]
    );
}
