//! The schemas of contracts and of shared entries.

use cledger_store::vocabulary::{
    CONNECTION, CREDENTIAL, ENDPOINT, FIELD, INSTANCE, OUTPUT, PROBE, TABLE, UNIT,
};
use serde_json::{Value, json};

use super::forms::{of_keys, properties};
use super::{chores, document, named};

pub(crate) fn unit() -> Value {
    let mut output = of_keys(&OUTPUT, json!({}), &["path"]);
    output["oneOf"] = json!([{ "required": ["format"] }, { "required": ["template"] }]);
    output["if"] = json!({ "properties": { "format": { "const": "csv" } }, "required": ["format"] });
    output["then"] = json!({ "required": ["table"] });
    output["else"] = json!({ "properties": { "table": false } });
    let mut things = entries();
    things["instances"] = named(of_keys(&INSTANCE, json!({}), &[]));
    things["output"] = json!({ "type": "array", "items": output });
    things["chore"] = chores();
    things["probe"] = json!({ "type": "array", "items": of_keys(&PROBE, json!({}), &["name", "entry"]) });
    document("A unit's contract", properties(&UNIT, things))
}

pub(crate) fn shared() -> Value {
    document("Shared entries", entries())
}

/// The tables in which entries stand.
fn entries() -> Value {
    let fields = || json!({ "fields": named(attributes()) });
    json!({
        "variables": named(attributes()),
        "connections": named(of_keys(&CONNECTION, fields(), &["protocol"])),
        "tables": named(of_keys(&TABLE, json!({}), &["columns", "key"])),
        "endpoints": named(of_keys(&ENDPOINT, fields(), &[])),
        "credentials": named(of_keys(&CREDENTIAL, fields(), &["form"])),
    })
}

/// What can be said of a field.
fn attributes() -> Value {
    of_keys(&FIELD, json!({}), &[])
}
