//! The schema of each key, by what it takes.

use cledger_store::vocabulary::{Form, Key};
use serde_json::{Map, Value, json};

use super::{NAME, table};

/// A table with these keys; what is declared by itself is in `things`.
pub(super) fn of_keys(keys: &[Key], things: Value, required: &[&str]) -> Value {
    table(properties(keys, things), required)
}

/// The keys of a table with what each takes.
pub(super) fn properties(keys: &[Key], mut things: Value) -> Value {
    let mut properties = Map::new();
    for key in keys {
        let schema = match key.form {
            Form::Things => things.get_mut(key.name).map_or_else(|| json!({}), Value::take),
            form => described(of_form(form), key.about),
        };
        properties.insert(key.name.to_owned(), schema);
    }
    properties.into()
}

fn described(mut schema: Value, about: &str) -> Value {
    if let (Some(schema), false) = (schema.as_object_mut(), about.is_empty()) {
        schema.insert("description".to_owned(), about.into());
    }
    schema
}

fn of_form(form: Form) -> Value {
    let text = json!({ "type": "string" });
    let list = |items: Value| json!({ "type": "array", "items": items });
    let from = || table(json!({ "from": { "type": "string", "pattern": "^(env|file):" } }), &["from"]);
    let names = |keys: &'static [Key]| keys.iter().map(|key| key.name).collect::<Vec<_>>();
    match form {
        Form::Text => text,
        Form::Name => json!({ "type": "string", "pattern": NAME }),
        Form::Word(words) => json!({ "enum": words() }),
        Form::Boolean => json!({ "type": "boolean" }),
        Form::OnlyTrue => json!({ "const": true }),
        Form::BooleanOr(word) => json!({ "enum": [true, false, word] }),
        Form::Whole(u32::MAX) => json!({ "type": "integer", "minimum": 0 }),
        Form::Whole(most) => json!({ "type": "integer", "minimum": 0, "maximum": most }),
        Form::Names | Form::Patterns | Form::Texts => list(text),
        Form::OneOrMore | Form::OneOrMoreTexts => {
            json!({ "oneOf": [text, list(json!({ "type": "string" }))] })
        }
        Form::Ends => json!({
            "type": "array", "items": { "type": "string", "minLength": 1 }, "minItems": 2, "maxItems": 2
        }),
        Form::Words(words) => list(json!({ "enum": words() })),
        Form::Values => json!({ "type": "array" }),
        Form::Bound => json!({ "type": ["number", "string"] }),
        Form::Given => json!({ "anyOf": [text, from()] }),
        Form::From => from(),
        Form::Labels => json!({ "type": "object", "additionalProperties": text }),
        Form::WordsByWord(words, values) => json!({
            "type": "object", "propertyNames": { "enum": words() }, "additionalProperties": { "enum": values() }
        }),
        Form::OutputName => {
            json!({ "oneOf": [text, { "type": "object", "additionalProperties": { "type": "string" } }] })
        }
        Form::When(words) => json!({ "oneOf": [
            { "enum": words },
            table(json!({ "changed": list(text) }), &["changed"]),
        ] }),
        Form::Parts(keys) => of_keys(keys, json!({}), &names(keys)),
        Form::Some(keys) => of_keys(keys, json!({}), &[]),
        Form::ListOf(keys, needed) => list(of_keys(keys, json!({}), needed)),
        Form::TableOf(keys, needed) => of_keys(keys, json!({}), needed),
        Form::Table => json!({ "type": "object" }),
        Form::Rows => json!({ "type": ["string", "object"] }),
        // Each has its own schema, which whoever asks for it adds.
        Form::Value | Form::Things => json!({}),
    }
}
