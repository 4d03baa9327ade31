//! The schemas of `ledger.toml` and `waivers.toml`.

use cledger_core::findings::Code;
use cledger_core::model::{Class, DaybookStore, Naming, OutletKind, SecretsIn, Waived};
use serde_json::{Value, json};

use super::{chores, document, name, names, table, text, texts};

pub(crate) fn ledger() -> Value {
    let classes: Vec<&str> = Class::ALL.iter().map(|(_, name)| *name).collect();
    let follow = table(json!({ "stage": name(), "only": texts(), "except": texts() }), &["stage"]);
    let labels = json!({ "type": "object", "additionalProperties": { "type": "string" } });
    let stage = table(
        json!({
            "name": name(),
            "class": { "enum": classes, "description": "What the stage is for" },
            "groups": names(),
            "after": { "type": "array", "items": name(), "description": "What must have been delivered there first" },
            "as_tested": { "type": "boolean", "description": "What is not meant to differ must be as it was delivered to the stages before" },
            "locked": { "type": "boolean", "description": "Settings change only by promotion or with a stated reason" },
            "own": { "type": "array", "items": { "type": "string" }, "description": "Patterns of what promotion never carries in" },
            "labels": labels,
            "follow": { "type": "array", "items": follow },
            "chore": chores(),
        }),
        &["name", "class"],
    );
    let group = table(json!({ "name": name(), "about": { "type": "string" } }), &["name"]);
    let aligned = table(json!({ "stages": names(), "except": texts() }), &["stages"]);
    let codes: Vec<&str> = Code::ALL.iter().map(|code| code.name()).collect();
    let severity = json!({ "enum": ["error", "warning"] });
    let check = table(
        json!({
            "expiring_days": { "type": "integer", "minimum": 0, "description": "How many days ahead a last day is near" },
            "severity": { "type": "object", "propertyNames": { "enum": codes }, "additionalProperties": severity },
        }),
        &[],
    );
    let list = |items: Value| json!({ "type": "array", "items": items });
    let mut schema = document(
        "ledger.toml",
        json!({
            "format": { "const": 1 },
            "name": text("What the ledger is called"),
            "default_stage": text("The stage that is meant where none is named; never of class production"),
            "stage": list(stage),
            "group": list(group),
            "aligned": list(aligned),
            "check": check,
            "rule": list(rule()),
            "routine": list(routine()),
            "outlet": list(outlet()),
            "daybook": table(
                json!({
                    "store": { "enum": DaybookStore::ALL.map(|(_, word)| word) },
                    "anchors": { "type": "boolean", "description": "A line for each record in anchors.txt" },
                }),
                &[],
            ),
        }),
    );
    schema["required"] = json!(["format", "name"]);
    schema
}

/// A search that is kept, and what is done with what it finds.
fn routine() -> Value {
    let classes: Vec<&str> = Class::ALL.iter().map(|(_, name)| *name).collect();
    let search = table(
        json!({
            "pattern": { "type": "string" }, "kind": { "type": "string" }, "type": { "type": "string" },
            "class": { "enum": classes }, "layer": { "type": "string" }, "owner": { "type": "string" },
            "equals": texts(), "contains": texts(), "matches": texts(), "over": texts(), "under": texts(),
            "secret": { "type": "boolean" }, "no_secret": { "type": "boolean" },
            "output_name": { "type": "string" },
            "with_why": { "type": "boolean" }, "past_until": { "type": "boolean" },
        }),
        &[],
    );
    let replace = table(
        json!({
            "to": { "type": "string" }, "swap": texts(), "lead": texts(), "regex": texts(),
            "in_references": { "type": "boolean" },
            "names": { "type": "array", "items": { "enum": ["units", "entries", "outputs"] } },
            "name_swap": texts(), "name_lead": texts(), "name_regex": texts(),
        }),
        &[],
    );
    table(
        json!({ "name": name(), "about": { "type": "string" }, "search": search, "replace": replace }),
        &["name"],
    )
}

/// A rule of the ledger's own.
fn rule() -> Value {
    let classes: Vec<&str> = Class::ALL.iter().map(|(_, name)| *name).collect();
    let severity = json!({ "enum": ["error", "warning"] });
    let one_or_more = json!({ "oneOf": [{ "type": "string" }, texts()] });
    let mut rule = table(
        json!({
            "name": name(), "fields": one_or_more, "types": one_or_more, "kinds": one_or_more,
            "when": table(json!({ "field": { "type": "string" }, "is": {} }), &["field", "is"]),
            "stated": { "const": true }, "classes": { "type": "array", "items": { "enum": classes } },
            "stages": one_or_more, "one_of": { "type": "array" }, "not_one_of": { "type": "array" },
            "pattern": { "type": "string" }, "not_pattern": { "type": "string" },
            "min": { "type": ["string", "number"] }, "max": { "type": ["string", "number"] },
            "max_length": { "type": "integer", "minimum": 0 }, "equal_in": one_or_more,
            "distinct_in": one_or_more, "unique_in_stage": { "const": true },
            "present_with": { "type": "string" }, "absent_in": one_or_more, "severity": severity,
            "why": text("Why the rule is there"), "help": text("What to do where it is broken"),
        }),
        &["name"],
    );
    let needed = ["fields", "types", "kinds"].map(|key| json!({ "required": [key] }));
    rule["anyOf"] = json!(needed);
    rule
}

pub(crate) fn waivers() -> Value {
    let codes: Vec<&str> = Code::ALL.iter().map(|code| code.name()).chain([Waived::DRIFT]).collect();
    let waiver = table(
        json!({
            "code": { "anyOf": [{ "enum": codes }, { "type": "string", "pattern": "^rule:" }] },
            "address": text("What it is about, as a pattern of addresses"),
            "why": text("Why it is accepted"),
            "until": text("The last day on which it is"),
            "by": text("Who agreed"),
        }),
        &["code", "address", "why", "until"],
    );
    document("waivers.toml", json!({ "waiver": { "type": "array", "items": waiver } }))
}

fn outlet() -> Value {
    table(
        json!({
            "name": name(),
            "kind": { "enum": OutletKind::NAMES },
            "stages": texts(),
            "units": texts(),
            "keep": texts(),
            "timeout": text("How long it may take to answer"),
            "path": text("The folder, from the ledger's, or what follows the url; may refer to the stage and the unit"),
            "url": given("The address of the service or the database"),
            "token": from("The bearer token"),
            "proxy": text("The proxy between"),
            "retries": { "type": "integer", "minimum": 0, "maximum": 10 },
            "password": from("The password of the database"),
            "table": text("The table, as TABLE or SCHEMA.TABLE"),
            "columns": table(
                json!({ "scope": text("Whose row it is"), "name": text("The name"), "value": text("The value") }),
                &["scope", "name", "value"],
            ),
            "scope": text("The scope of a unit; may refer to the stage and the unit"),
            "naming": { "enum": Naming::ALL.map(|(_, word)| word) },
            "prefix": text("What stands in front of all names"),
            "secrets": { "enum": SecretsIn::ALL.map(|(_, word)| word) },
            "reload": texts(),
            "pass": texts(),
            "follow_links": { "type": "boolean" },
            "ready": text("What tells that a delivery counts: an address, or file:PATH"),
            "within": text("How long a delivery may take to count"),
            "chore": text("What a person has to do who brings it there by hand"),
            "pid_file": text("The file with the number of a process; may refer to the stage and the unit"),
        }),
        &["name", "kind", "stages"],
    )
}

/// Where something comes from that does not stand in the ledger.
fn from(about: &str) -> Value {
    let mut from = table(json!({ "from": { "type": "string", "pattern": "^(env|file):" } }), &["from"]);
    from["description"] = about.into();
    from
}

/// Text, or where it comes from.
fn given(about: &str) -> Value {
    json!({ "anyOf": [text(about), from(about)] })
}
