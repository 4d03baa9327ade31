//! The schemas of `ledger.toml` and `waivers.toml`.

use cledger_core::findings::Code;
use cledger_core::model::{Class, Waived};
use cledger_store::vocabulary::{
    ALIGNED, BUNDLE, FOLLOW, GROUP, Key, LEDGER, OUTLET, RULE, RULE_DEMANDS, STAGE,
};
use serde_json::{Value, json};

use super::forms::{of_keys, properties};
use super::{chores, document, name, table, text, texts};

pub(crate) fn ledger() -> Value {
    let list = |items: Value| json!({ "type": "array", "items": items });
    let follow = of_keys(&FOLLOW, json!({}), &["stage"]);
    let stage = of_keys(&STAGE, json!({ "follow": list(follow), "chore": chores() }), &["name", "class"]);
    let things = json!({
        "stage": list(stage),
        "group": list(of_keys(&GROUP, json!({}), &["name"])),
        "aligned": list(of_keys(&ALIGNED, json!({}), &["stages"])),
        "rule": list(rule()),
        "routine": list(routine()),
        "bundle": list(of_keys(&BUNDLE, json!({}), &["name", "units"])),
        "outlet": list(of_keys(&OUTLET, json!({}), &["name", "kind", "stages"])),
    });
    let mut schema = document("ledger.toml", properties(&LEDGER, things));
    schema["properties"]["format"] = json!({ "const": 1 });
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
            "beside": texts(), "secret": { "type": "boolean" }, "no_secret": { "type": "boolean" },
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
    let keys: Vec<Key> = RULE.into_iter().chain(RULE_DEMANDS).collect();
    let mut rule = of_keys(&keys, json!({}), &["name"]);
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
