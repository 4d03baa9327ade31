//! Values and keys as TOML text.

use cledger_core::value::Value;
use compact_str::CompactString;
use toml::Spanned;
use toml::de::{DeString, DeValue};
use toml_parser::decoder::Encoding;

use super::outline::quoting;

/// A value as TOML. Where it takes the place of a text in single quotes, it has them, too, if it can.
pub fn literal(value: &Value, before: Option<&str>) -> String {
    let single = before.and_then(quoting) == Some(Encoding::LiteralString);
    match value {
        // As for JSON: nothing in it needs an escape then.
        Value::Text(text)
            if (single || text.contains('"')) && !text.contains(|c: char| c == '\'' || c.is_control()) =>
        {
            format!("'{text}'")
        }
        Value::Text(text) => text_literal(text),
        // What no other type holds is a text in the ledger.
        Value::Json(_) => literal(&Value::Text(value.to_text()), before),
        Value::Time(text) => text.to_string(),
        Value::Integer(number) => number.to_string(),
        Value::Number(number) => toml::Value::Float(*number).to_string(),
        Value::Boolean(truth) => truth.to_string(),
        Value::Date(date) => date.to_string(),
        Value::List(items) => {
            let items: Vec<String> = items.iter().map(|item| literal(item, None)).collect();
            format!("[{}]", items.join(", "))
        }
        Value::Map(map) if map.is_empty() => "{}".to_owned(),
        Value::Map(map) => {
            let pairs: Vec<String> =
                map.iter().map(|(name, item)| format!("{} = {}", key(name), literal(item, None))).collect();
            format!("{{ {} }}", pairs.join(", "))
        }
    }
}

/// Reads a value that is written as TOML; `None` if it is not, or is of a type that no field has.
pub fn parse_value(text: &str) -> Option<Value> {
    let (value, errors) = DeValue::parse_recoverable(text);
    errors.is_empty().then(|| from_parsed(value.get_ref())).flatten()
}

fn from_parsed(value: &DeValue<'_>) -> Option<Value> {
    Some(match value {
        DeValue::String(text) => Value::text(text),
        DeValue::Array(items) => {
            Value::List(items.iter().map(|item| from_parsed(item.get_ref())).collect::<Option<_>>()?)
        }
        DeValue::Table(table) => {
            let pair = |(key, item): (&Spanned<DeString<'_>>, &Spanned<DeValue<'_>>)| {
                Some((CompactString::new(key.get_ref()), from_parsed(item.get_ref())?))
            };
            Value::Map(table.iter().map(pair).collect::<Option<_>>()?)
        }
        _ => return None,
    })
}

/// A text in double quotes, in one line.
fn text_literal(text: &str) -> String {
    let mut quoted = String::with_capacity(text.len() + 2);
    quoted.push('"');
    for c in text.chars() {
        match c {
            '"' => quoted.push_str("\\\""),
            '\\' => quoted.push_str("\\\\"),
            '\n' => quoted.push_str("\\n"),
            '\r' => quoted.push_str("\\r"),
            '\t' => quoted.push_str("\\t"),
            c if c.is_control() => quoted.push_str(&format!("\\u{:04X}", u32::from(c))),
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}

/// A step of a key, in quotes where it needs them.
pub fn key(name: &str) -> String {
    let bare = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_' || b == b'-');
    if bare { name.to_owned() } else { text_literal(name) }
}
