//! JSON Schemas (draft 2020-12) of the files of a ledger, and of what `check --json` prints.
//!
//! They say what may stand where, so that an editor completes keys and marks mistakes while one
//! types. What a value may be is said for the TOML forms as editors map them to JSON: a day is text.

mod declarations;
mod folio;
mod forms;
mod manifest;
mod report;
mod settings;

use cledger_store::vocabulary::CHORE;
use serde_json::{Value, json};

pub(crate) use declarations::{shared, unit};
pub(crate) use folio::folio;
pub(crate) use manifest::{ledger, waivers};
pub(crate) use report::report;
pub(crate) use settings::settings;

const DRAFT: &str = "https://json-schema.org/draft/2020-12/schema";

/// A name, as the grammar of addresses has it.
const NAME: &str = "^[a-z0-9][a-z0-9_-]{0,63}$";

/// A document with a title, and no keys but those of its properties.
fn document(title: &str, properties: Value) -> Value {
    json!({ "$schema": DRAFT, "title": title, "type": "object", "additionalProperties": false, "properties": properties })
}

/// A table with no keys but these.
fn table(properties: Value, required: &[&str]) -> Value {
    json!({ "type": "object", "additionalProperties": false, "properties": properties, "required": required })
}

/// A table of named things.
fn named(of: Value) -> Value {
    json!({ "type": "object", "propertyNames": { "pattern": NAME }, "additionalProperties": of })
}

fn name() -> Value {
    json!({ "type": "string", "pattern": NAME })
}

fn texts() -> Value {
    json!({ "type": "array", "items": { "type": "string" } })
}

/// Text with a word on what it is for.
fn text(about: &str) -> Value {
    json!({ "type": "string", "description": about })
}

/// What must be done around deliveries.
fn chores() -> Value {
    json!({ "type": "array", "items": forms::of_keys(&CHORE, json!({}), &["text"]) })
}
