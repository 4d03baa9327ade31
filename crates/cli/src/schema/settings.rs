//! The schema of settings: with the units and entries of a ledger, if there is one.

use cledger_core::model::{Declaration, Entry, Kind, Ledger, Subject, Vary};
use cledger_core::types::Type;
use serde_json::{Map, Value, json};

use super::document;

pub(crate) fn settings(ledger: Option<&Ledger>) -> Value {
    let Some(ledger) = ledger else {
        let tables = json!({ "type": "object" });
        return document("Settings of a stage or group", json!({ "shared": tables, "units": tables }));
    };
    let (mut definitions, mut units) = (Map::new(), Map::new());
    let reference = |name: &str| json!({ "$ref": format!("#/$defs/{name}") });
    for entry in &ledger.shared {
        definitions.insert(format!("shared.{}", entry.name), of_entry(entry));
    }
    let of_shared = |entry: &Entry| reference(&format!("shared.{}", entry.name));
    for id in ledger.unit_ids() {
        let (unit, subject) = (ledger.unit(id), Subject::Unit(id, None));
        let entries = ledger.slots(subject).entries.iter().map(|known| {
            let entry = ledger.entry(subject, known.entry);
            let schema = if known.entry.shared().is_some() { of_shared(entry) } else { of_entry(entry) };
            (entry.name.to_string(), schema)
        });
        let name = format!("unit.{}", unit.name);
        definitions.insert(name.clone(), of_entries(entries));
        units.insert(unit.name.to_string(), reference(&name));
        for instance in &unit.instances {
            units.insert(format!("{}+{}", unit.name, instance.name), reference(&name));
        }
    }
    let shared = of_entries(ledger.shared.iter().map(|entry| (entry.name.to_string(), of_shared(entry))));
    let units = json!({ "type": "object", "additionalProperties": false, "properties": units });
    let mut schema = document("Settings of a stage or group", json!({ "shared": shared, "units": units }));
    schema["$defs"] = Value::Object(definitions);
    schema
}

fn of_entries(entries: impl Iterator<Item = (String, Value)>) -> Value {
    let properties: Map<String, Value> = entries.collect();
    json!({ "type": "object", "additionalProperties": false, "properties": properties })
}

fn of_entry(entry: &Entry) -> Value {
    let settable = entry.fields.iter().filter(|field| !field.derived && field.vary != Vary::Never);
    if let Kind::Table { columns, key } = &entry.kind {
        return said(&of_rows(columns, key), entry.about.as_deref());
    }
    if entry.kind == Kind::Variable {
        return settable.map(of_field).next().unwrap_or(json!(false));
    }
    let fields = settable.filter_map(|field| Some((field.name.as_ref()?.to_string(), of_field(field))));
    let fields: Map<String, Value> = fields.collect();
    let mut schema = json!({ "type": "object", "additionalProperties": false, "properties": fields });
    if let Some(about) = &entry.about {
        schema["description"] = json!(&**about);
    }
    schema
}

/// The setting of a field.
fn of_field(field: &Declaration) -> Value {
    said(&of_value(field), field.about.as_deref())
}

/// A CSV file's path, or rows by their keys.
fn of_rows(columns: &[String], key: &str) -> Value {
    let cells: Vec<&String> = columns.iter().filter(|column| *column != key).collect();
    let properties: Map<String, Value> =
        cells.iter().map(|column| ((*column).clone(), json!({ "type": "string" }))).collect();
    let row = json!({ "type": "object", "properties": properties, "required": cells, "additionalProperties": false });
    let gone = json!({ "type": "object", "properties": { "absent": { "const": true } }, "required": ["absent"], "additionalProperties": false });
    json!({ "anyOf": [
        { "type": "string" },
        { "type": "object", "additionalProperties": { "anyOf": [row, gone] } },
    ] })
}

/// A value of this schema, or a table of the setting words around one.
fn said(value: &Value, about: Option<&str>) -> Value {
    let mut schema = json!({ "anyOf": [
        value,
        {
            "type": "object",
            "additionalProperties": false,
            "properties": {
                "value": value,
                "absent": { "const": true },
                "from": { "type": "string", "pattern": "^(env:.|file:.|\\$\\{)" },
                "why": { "type": "string" },
                "until": { "type": "string" },
                "looked_up": { "type": "string" },
            },
            "oneOf": [{ "required": ["value"] }, { "required": ["absent"] }, { "required": ["from"] }],
        },
    ] });
    if let Some(about) = about {
        schema["description"] = json!(about);
    }
    schema
}

fn of_value(field: &Declaration) -> Value {
    let texts = json!({ "type": "string" });
    let number =
        |kind: &str| json!({ "anyOf": [{ "type": kind }, { "type": "string", "pattern": "\\$\\{" }] });
    let value = match field.this_type {
        Type::Integer => number("integer"),
        Type::Number => number("number"),
        Type::Boolean => number("boolean"),
        Type::Port => json!({ "anyOf": [
            { "type": "integer", "minimum": 1, "maximum": 65535 },
            { "type": "string", "pattern": "\\$\\{" },
        ] }),
        Type::List => json!({ "type": "array", "items": texts }),
        Type::Map => json!({ "type": "object", "additionalProperties": texts }),
        _ => texts,
    };
    match field.constraints.as_ref().map(|known| &known.one_of).filter(|one_of| !one_of.is_empty()) {
        Some(one_of) if !matches!(field.this_type, Type::List | Type::Map) => {
            let one_of: Vec<Value> = one_of.iter().map(cledger_core::value::Value::to_json).collect();
            json!({ "anyOf": [{ "enum": one_of }, { "type": "string", "pattern": "\\$\\{" }] })
        }
        _ => value,
    }
}
