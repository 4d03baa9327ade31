//! Numbers of which a file says more digits than its reader gives.

use std::collections::BTreeSet;

use cledger_core::json::Json;
use cledger_core::model::OutputFormat;
use cledger_core::value::Value;

/// The numbers in a text that come out with other digits than they have there.
#[derive(Debug, Default)]
pub(super) struct LongNumbers(BTreeSet<u64>);

impl LongNumbers {
    /// Those in a file of this format. JSON is read with all digits.
    pub(super) fn of(format: OutputFormat, text: &str) -> Self {
        if !matches!(format, OutputFormat::Yaml | OutputFormat::Toml) {
            return Self::default();
        }
        let is_part = |c: char| c.is_ascii_digit() || matches!(c, '.' | 'e' | 'E' | '+' | '-' | '_');
        let words = text.split(|c| !is_part(c)).filter(|word| word.len() > 15);
        let long = words.filter_map(|word| {
            let plain = word.replace('_', "");
            let plain = plain.trim_start_matches('+');
            let is_long = Json::parse(plain).is_ok_and(|json| json.inexact().is_some());
            Some(plain.parse::<f64>().ok().filter(|_| is_long)?.to_bits())
        });
        Self(long.collect())
    }

    /// Whether a value is one of them, or has one in it.
    pub(super) fn has(&self, value: &Value) -> bool {
        match value {
            Value::Number(number) => self.0.contains(&number.to_bits()),
            Value::List(items) => items.iter().any(|item| self.has(item)),
            Value::Map(map) => map.values().any(|item| self.has(item)),
            Value::Json(json) => self.in_json(json),
            _ => false,
        }
    }

    fn in_json(&self, json: &Json) -> bool {
        match json {
            Json::Number(text) => text.parse::<f64>().is_ok_and(|number| self.0.contains(&number.to_bits())),
            Json::List(items) => items.iter().any(|item| self.in_json(item)),
            Json::Object(pairs) => pairs.iter().any(|(_, item)| self.in_json(item)),
            Json::Null | Json::Boolean(_) | Json::Text(_) => false,
        }
    }
}
