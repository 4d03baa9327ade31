//! The schemas of contracts and of shared entries.

use cledger_core::model::{Form, Naming, OutputFormat, OutputOrder, SecretsIn};
use cledger_core::types::Type;
use serde_json::{Value, json};

use super::{chores, document, name, named, table, text, texts};

pub(crate) fn unit() -> Value {
    let formats: Vec<&str> = OutputFormat::ALL.iter().map(|(_, name)| *name).collect();
    let words = |all: &[&str]| json!({ "enum": all });
    let mut output = table(
        json!({
            "path": text("Below the unit's folder; may refer to the stage and the unit"),
            "format": { "enum": formats },
            "template": text("The file in the ledger that makes it, in place of a format"),
            "delimiters": delimiters(),
            "table": text("The lookup table that a CSV file holds"),
            "naming": words(&Naming::ALL.map(|(_, word)| word)),
            "prefix": text("What stands in front of all names; for nested ones levels, joined with dots"),
            "only": { "type": "array", "items": text("ENTRY or ENTRY.FIELD, a pattern") },
            "except": { "type": "array", "items": text("ENTRY or ENTRY.FIELD, a pattern") },
            "secrets": words(&SecretsIn::ALL.map(|(_, word)| word)),
            "header": text("A comment at the start"),
            "name": text("The name of a manifest"),
            "manifest": json!({ "type": "object", "description": "What a manifest says beside its name and data; texts may refer to the stage and the unit" }),
            "order": words(&OutputOrder::ALL.map(|(_, word)| word)),
            "element": text("How the outermost element of an XML file is called, if not `settings`"),
            "not_adopted": { "type": "array", "items": table(
                json!({ "name": text("Its name there"), "at": text("FILE:LINE"), "why": text("Why it has no place") }),
                &["name", "at", "why"],
            ) },
        }),
        &["path"],
    );
    output["oneOf"] = json!([{ "required": ["format"] }, { "required": ["template"] }]);
    output["if"] = json!({ "properties": { "format": { "const": "csv" } }, "required": ["format"] });
    output["then"] = json!({ "required": ["table"] });
    output["else"] = json!({ "properties": { "table": false } });
    let instance = table(json!({ "stages": texts() }), &[]);
    let mut properties = json!({
        "about": text("What the unit is"),
        "owner": text("Who looks after it"),
        "version": text("The version of what is deployed"),
        "formerly": { "type": "array", "items": name(), "description": "The names that it had before, the latest last" },
        "stages": { "type": "array", "items": { "type": "string" }, "description": "Patterns of the stages where it belongs" },
        "uses": { "type": "array", "items": name(), "description": "The shared entries that it uses" },
        "instances": named(instance),
        "output": { "type": "array", "items": output },
        "chore": chores(),
    });
    add_entries(&mut properties);
    document("A unit's contract", properties)
}

/// What stands around the marks of a template.
fn delimiters() -> Value {
    let pair = || json!({ "type": "array", "items": { "type": "string", "minLength": 1 }, "minItems": 2, "maxItems": 2 });
    table(json!({ "value": pair(), "block": pair(), "comment": pair() }), &[])
}

pub(crate) fn shared() -> Value {
    let mut properties = json!({});
    add_entries(&mut properties);
    document("Shared entries", properties)
}

fn add_entries(properties: &mut Value) {
    let fields = named(attributes());
    let about = || json!({ "type": "string" });
    let forms: Vec<&str> = Form::ALL.iter().map(|(_, name)| *name).collect();
    properties["variables"] = named(attributes());
    properties["connections"] = named(table(
        json!({ "protocol": text("postgresql, mysql, redis, amqp, sftp, ldap, smtp, kafka, tcp or another"), "about": about(), "fields": fields }),
        &["protocol"],
    ));
    properties["tables"] = named(table(
        json!({
            "columns": texts(), "key": { "type": "string" }, "about": about(), "required": { "type": "boolean" },
            "rows": { "type": ["string", "object"], "description": "The CSV file of its rows, or rows by their keys" },
            "as": as_name(),
        }),
        &["columns", "key"],
    ));
    properties["endpoints"] = named(table(json!({ "about": about(), "fields": fields }), &[]));
    properties["credentials"] =
        named(table(json!({ "form": { "enum": forms }, "about": about(), "fields": fields }), &["form"]));
}

fn as_name() -> Value {
    json!({ "oneOf": [
        { "type": "string" },
        { "type": "object", "additionalProperties": { "type": "string" } },
    ] })
}

/// What can be said of a field.
fn attributes() -> Value {
    let types: Vec<&str> = Type::names().collect();
    let bound = json!({ "type": ["number", "string"] });
    table(
        json!({
            "type": { "enum": types },
            "default": { "description": "A plain value; text may hold references" },
            "required": { "type": "boolean" },
            "vary": { "enum": ["never", "may", "must"] },
            "distinct": { "enum": [true, false, "class"] },
            "secret": { "type": "boolean" },
            "one_of": { "type": "array" },
            "min": bound, "max": bound,
            "pattern": text("A regular expression that matches somewhere in the text"),
            "max_length": { "type": "integer", "minimum": 0 },
            "about": text("What it is for"),
            "as": as_name(),
        }),
        &[],
    )
}
