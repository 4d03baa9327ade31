//! `schema`: editors accept what is right and mark what is not.

use serde_json::Value;

use crate::test_ledger::{TestLedger, written};

fn schema(ledger: &TestLedger, kind: &str) -> jsonschema::Validator {
    let (out, _) = written(&ledger.run(&format!("schema {kind}")).code(0));
    jsonschema::validator_for(&serde_json::from_str(&out).unwrap()).unwrap()
}

/// A TOML text as an editor hands it to its schema.
fn as_json(text: &str) -> Value {
    fn convert(value: toml::Value) -> Value {
        match value {
            toml::Value::Datetime(moment) => Value::from(moment.to_string()),
            toml::Value::Array(items) => items.into_iter().map(convert).collect(),
            toml::Value::Table(table) => {
                table.into_iter().map(|(key, value)| (key, convert(value))).collect()
            }
            other => serde_json::to_value(other).unwrap(),
        }
    }
    convert(toml::Value::Table(toml::from_str(text).unwrap()))
}

#[test]
fn the_demo_is_as_its_schemas_say() {
    let ledger = TestLedger::demo();
    for (kind, folder) in [
        ("ledger", "ledger.toml"),
        ("shared", "shared.toml"),
        ("unit", "units/"),
        ("group", "groups/"),
        ("waivers", "waivers.toml"),
    ] {
        let schema = schema(&ledger, kind);
        let files: Vec<String> =
            ledger.files("").into_iter().filter(|path| path.starts_with(folder)).collect();
        assert!(!files.is_empty());
        for path in files {
            let errors: Vec<String> =
                schema.iter_errors(&as_json(&ledger.read(&path))).map(|error| error.to_string()).collect();
            assert!(errors.is_empty(), "{path}: {errors:?}");
        }
    }
}

#[test]
fn mistakes_are_marked() {
    let ledger = TestLedger::demo();
    for (kind, text) in [
        ("ledger", "format = 1\nname = \"x\"\n[[stage]]\nname = \"a\"\nclass = \"tset\"\n"),
        ("ledger", "format = 2\nname = \"x\"\n"),
        ("ledger", "format = 1\nname = \"x\"\ngroops = []\n"),
        ("ledger", "format = 1\nname = \"x\"\n[check.severity]\nplain-secrets = \"error\"\n"),
        ("ledger", "format = 1\nname = \"x\"\n[[rule]]\nname = \"a\"\nmin = 1\n"),
        ("waivers", "[[waiver]]\ncode = \"expired\"\naddress = \"*\"\nuntil = 2027-01-31\n"),
        ("unit", "usse = []\n"),
        ("unit", "[variables.A]\n"),
        ("unit", "[variables.a]\ntype = \"string\"\n"),
        ("unit", "[connections.a]\nfields.port.default = 1\n"),
        ("unit", "[[output]]\npath = \"a\"\nformat = \"jsn\"\n"),
        ("shared", "[credentials.a]\nform = \"tokn\"\n"),
        ("stage", "[units.ticket-desk]\nseat_hodl = \"1m\"\n"),
        ("stage", "[units.ticket-desk]\nregion = \"west\"\n"),
        ("stage", "[units.ticket-desk]\ncurrency = \"EUR\"\n"),
        ("stage", "[units.ticket-desk]\nseat_hold = { value = \"1m\", absent = true }\n"),
        ("stage", "[units.ticket-desks]\n"),
        ("stage", "[shared.events]\nprefetch = \"50\"\n"),
        ("stage", "[shared.events]\nport = 70000\n"),
        ("stage", "[unit.ticket-desk]\n"),
    ] {
        assert!(!schema(&ledger, kind).is_valid(&as_json(text)), "{kind}: {text}");
    }
    let right = "[shared.events]\nport = 5673\nprefetch = \"${stage.label.n}\"\n[units.\"ticket-desk+kiosk\"]\n\
                 seat_hold = { from = \"env:HOLD\", why = \"so\", until = 2027-01-31 }\nregion = { absent = true }\n";
    assert!(schema(&ledger, "stage").is_valid(&as_json(right)));
    // Without a ledger it says less, and still what a file may hold.
    let nowhere = tempfile::tempdir().unwrap();
    let run = crate::test_ledger::program().args(["schema", "stage"]).current_dir(nowhere.path()).assert();
    let schema: Value = serde_json::from_str(&written(&run.code(0)).0).unwrap();
    assert_eq!(schema["properties"].as_object().unwrap().len(), 2);
}

#[test]
fn a_folio_says_what_its_schema_says() {
    let ledger = TestLedger::demo();
    let schema = schema(&ledger, "folio");
    for options in [
        "",
        "--from test",
        "--from dev --with-values --reader ben=age1zl3pvzjg52aysunzkxh8d6qg3raq45lt7nzr94uflurzpngqfy6snujd9m",
    ] {
        let made =
            format!("folio make bundle:ticketing quay-screens {options} --out ../x.folio --overwrite --json");
        let (out, _) = written(&ledger.run(&made).code(0));
        let document: Value = serde_json::from_str(&out).unwrap();
        let errors: Vec<String> =
            schema.iter_errors(&document["folio"]).map(|error| error.to_string()).collect();
        assert!(errors.is_empty(), "{options}: {errors:?}");
        let (shown, _) = written(&ledger.run("folio show ../x.folio --json").code(0));
        let shown: Value = serde_json::from_str(&shown).unwrap();
        // The members are listed once it is packed.
        assert!(schema.is_valid(&shown["folio"]) && shown["folio"]["members"].as_array().unwrap().len() > 5);
    }
}

#[test]
fn the_report_of_a_check_is_as_its_schema_says() {
    let ledger = TestLedger::demo();
    let schema = schema(&ledger, "report");
    for arguments in ["check --json", "check @dev --json", "check crew-roster@staging --json --waived"] {
        let (out, _) = written(&ledger.run(arguments));
        let report: Value = serde_json::from_str(&out).unwrap();
        let errors: Vec<String> = schema.iter_errors(&report).map(|error| error.to_string()).collect();
        assert!(errors.is_empty(), "{arguments}: {errors:?}");
        assert!(!report["findings"].as_array().unwrap().is_empty());
    }
    assert!(!schema.is_valid(&serde_json::json!({ "format": 1, "findings": [] })));
}
