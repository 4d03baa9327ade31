//! Values, as TOML gives them, and the wrapper that keeps secret ones from being printed.

use std::collections::BTreeMap;
use std::fmt;

use compact_str::CompactString;
use jiff::civil::Date;
use zeroize::{Zeroize, Zeroizing};

use crate::json::{Json, is_exact};
use crate::reference;

/// A value. It may be of a type that no field has, such as a time, so that it can be reported.
///
/// Values do not print with `{:?}`, since a secret may be one of them.
#[derive(Clone, PartialEq)]
pub enum Value {
    /// Text.
    Text(CompactString),
    /// A whole number.
    Integer(i64),
    /// A number with a fraction or exponent; may be infinite or not a number.
    Number(f64),
    /// `true` or `false`.
    Boolean(bool),
    /// A day.
    Date(Date),
    /// A time, or a day with a time, as written; no field has this type.
    Time(CompactString),
    /// A list.
    List(Vec<Value>),
    /// A map, sorted by key.
    Map(BTreeMap<CompactString, Value>),
    /// What of a file is none of these: null, a list of anything but texts, a number of more digits than one holds.
    Json(Json),
}

impl Value {
    /// Whether two values are the same, where `same` says of two texts in the same place whether these are.
    pub(crate) fn is_same_by<'o, 't>(
        &'o self,
        other: &'t Self,
        same: &mut dyn FnMut(&'o str, &'t str) -> bool,
    ) -> bool {
        match (self, other) {
            (Value::Text(one), Value::Text(other)) => same(one, other),
            (Value::List(one), Value::List(other)) => {
                one.len() == other.len()
                    && one.iter().zip(other).all(|(one, other)| one.is_same_by(other, same))
            }
            (Value::Map(one), Value::Map(other)) => {
                one.keys().eq(other.keys())
                    && one.values().zip(other.values()).all(|(one, other)| one.is_same_by(other, same))
            }
            (one, other) => one == other,
        }
    }

    /// A text value.
    pub fn text(text: &str) -> Self {
        Value::Text(CompactString::new(text))
    }

    /// Whether it is a map without anything in it.
    pub fn is_empty_map(&self) -> bool {
        matches!(self, Value::Map(branch) if branch.is_empty())
    }

    /// The text, if it is text.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Value::Text(text) => Some(text),
            _ => None,
        }
    }

    /// What people call a value of this form: `text`, `integer`, `list`, …
    pub fn type_name(&self) -> &'static str {
        match self {
            Value::Text(_) => "text",
            Value::Integer(_) => "integer",
            Value::Number(_) => "number",
            Value::Boolean(_) => "boolean",
            Value::Date(_) => "date",
            Value::Time(_) => "time",
            Value::List(_) => "list",
            Value::Map(_) => "map",
            Value::Json(_) => "json",
        }
    }

    /// The text form, as it is inserted into other text and written to files that know only text:
    /// numbers in decimal, days as ISO 8601, lists and maps as compact JSON with sorted keys.
    pub fn to_text(&self) -> CompactString {
        match self {
            Value::Text(text) | Value::Time(text) => text.clone(),
            Value::Integer(number) => compact_str::format_compact!("{number}"),
            Value::Number(number) if number.fract() == 0.0 => {
                compact_str::format_compact!("{number:.1}")
            }
            Value::Number(number) => compact_str::format_compact!("{number}"),
            Value::Boolean(truth) => compact_str::format_compact!("{truth}"),
            Value::Date(date) => compact_str::format_compact!("{date}"),
            Value::List(_) | Value::Map(_) | Value::Json(_) => {
                compact_str::format_compact!("{}", Json::of_value(self))
            }
        }
    }

    /// The same where it may be a secret: wiped when it is dropped.
    pub fn to_secret_text(&self) -> Zeroizing<String> {
        Zeroizing::new(self.to_text().into())
    }

    /// The value as JSON in a text that is wiped when it is dropped.
    pub fn to_secret_json(&self) -> Zeroizing<String> {
        Zeroizing::new(self.to_json().to_string())
    }

    /// The value as JSON (RFC 8259): days as text, numbers that JSON lacks as text, those of too many digits rounded.
    pub fn to_json(&self) -> serde_json::Value {
        use serde_json::Value as Json;
        match self {
            Value::Text(text) | Value::Time(text) => Json::from(text.as_str()),
            Value::Integer(number) => Json::from(*number),
            Value::Number(number) => serde_json::Number::from_f64(*number)
                .map_or_else(|| Json::from(number.to_string()), Json::Number),
            Value::Boolean(truth) => Json::from(*truth),
            Value::Date(date) => Json::from(date.to_string()),
            Value::List(items) => items.iter().map(Value::to_json).collect(),
            Value::Map(map) => map.iter().map(|(key, value)| (key.to_string(), value.to_json())).collect(),
            Value::Json(json) => serde_json::from_str(&json.to_string()).unwrap_or_default(),
        }
    }

    /// A value that comes out as this one, with nothing in it taken for a reference.
    #[must_use]
    pub fn escaped(&self) -> Self {
        match self {
            Value::Text(text) => Value::Text(reference::escape(text).into()),
            Value::List(items) => Value::List(items.iter().map(Value::escaped).collect()),
            Value::Map(map) => {
                Value::Map(map.iter().map(|(key, item)| (key.clone(), item.escaped())).collect())
            }
            other => other.clone(),
        }
    }

    /// Whether some text in it holds `${`.
    pub fn has_references(&self) -> bool {
        match self {
            Value::Text(text) => reference::is_in(text),
            Value::List(items) => items.iter().any(Value::has_references),
            Value::Map(map) => map.values().any(Value::has_references),
            _ => false,
        }
    }

    /// The value that a JSON value is; `None` for null, anywhere in it. Whole numbers beyond 64 bits become
    /// numbers with a fraction.
    pub fn from_json(json: serde_json::Value) -> Option<Value> {
        Some(match json {
            serde_json::Value::Null => return None,
            serde_json::Value::Bool(truth) => Value::Boolean(truth),
            serde_json::Value::Number(number) => match number.as_i64() {
                Some(whole) => Value::Integer(whole),
                None => Value::Number(number.as_f64()?),
            },
            serde_json::Value::String(text) => Value::Text(text.into()),
            serde_json::Value::Array(items) => {
                Value::List(items.into_iter().map(Value::from_json).collect::<Option<_>>()?)
            }
            serde_json::Value::Object(map) => {
                let pair = |(key, item): (String, _)| Some((key.into(), Value::from_json(item)?));
                Value::Map(map.into_iter().map(pair).collect::<Option<_>>()?)
            }
        })
    }

    fn wipe(&mut self) {
        match self {
            Value::Text(text) | Value::Time(text) => text.zeroize(),
            Value::Integer(number) => number.zeroize(),
            Value::Number(number) => number.zeroize(),
            Value::Boolean(truth) => truth.zeroize(),
            Value::Date(date) => *date = Date::ZERO,
            Value::List(items) => items.iter_mut().for_each(Value::wipe),
            Value::Map(map) => map.values_mut().for_each(Value::wipe),
            Value::Json(json) => json.wipe(),
        }
    }
}

impl Json {
    /// As a value of a file has it: what plain values can hold is one, objects are levels, and the rest stays as it is.
    pub fn into_value(self) -> Value {
        match self {
            Json::Boolean(truth) => Value::Boolean(truth),
            Json::Text(text) => Value::Text(text),
            Json::Number(text) => match (text.parse::<i64>(), text.parse::<f64>()) {
                (Ok(whole), _) if whole.to_string() == text => Value::Integer(whole),
                (Err(_), Ok(number)) if is_exact(&text, number) => Value::Number(number),
                _ => Value::Json(Json::Number(text)),
            },
            Json::Object(pairs) => {
                Value::Map(pairs.into_iter().map(|(name, json)| (name, json.into_value())).collect())
            }
            Json::List(items) => {
                if items.iter().all(|item| matches!(item, Json::Text(_))) {
                    Value::List(items.into_iter().map(Json::into_value).collect())
                } else {
                    Value::Json(Json::List(items))
                }
            }
            Json::Null => Value::Json(Json::Null),
        }
    }

    /// The same for a form that knows levels and texts alone: what is neither stays as it is.
    pub fn into_texts(self) -> Value {
        match self {
            Json::Object(pairs) => {
                Value::Map(pairs.into_iter().map(|(name, json)| (name, json.into_texts())).collect())
            }
            Json::Text(text) | Json::Number(text) => Value::Text(text),
            Json::Boolean(truth) => Value::Text(truth.to_string().into()),
            Json::List(_) | Json::Null => Value::Json(self),
        }
    }

    /// What a value is.
    pub fn of_value(value: &Value) -> Self {
        match value {
            Value::Json(json) => json.clone(),
            Value::Text(text) | Value::Time(text) => Json::Text(text.clone()),
            Value::Integer(_) => Json::Number(value.to_text()),
            Value::Number(number) if number.is_finite() => Json::Number(
                serde_json::Number::from_f64(*number)
                    .map_or_else(|| value.to_text(), |it| it.to_string().into()),
            ),
            Value::Number(_) | Value::Date(_) => Json::Text(value.to_text()),
            Value::Boolean(truth) => Json::Boolean(*truth),
            Value::List(items) => Json::List(items.iter().map(Self::of_value).collect()),
            Value::Map(map) => {
                Json::Object(map.iter().map(|(name, value)| (name.clone(), Self::of_value(value))).collect())
            }
        }
    }
}

impl fmt::Debug for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "({})", self.type_name())
    }
}

/// A secret value: it cannot be printed, and its memory is wiped when it is dropped.
#[derive(Clone, PartialEq)]
pub struct Secret(Value);

impl Drop for Secret {
    fn drop(&mut self) {
        self.0.wipe();
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("(secret)")
    }
}

/// A value, held so that a secret one is not printed by mistake.
#[derive(Debug, Clone, PartialEq)]
pub enum Held {
    /// A value that anybody may see.
    Open(Value),
    /// A secret, boxed since few values are one.
    Secret(Box<Secret>),
}

impl Held {
    /// Takes a value in.
    pub fn new(value: Value, secret: bool) -> Self {
        if secret { Held::Secret(Box::new(Secret(value))) } else { Held::Open(value) }
    }

    /// The value, secret or not. Who calls this must not print or keep what it gives.
    pub fn expose(&self) -> &Value {
        match self {
            Held::Open(value) => value,
            Held::Secret(secret) => &secret.0,
        }
    }

    /// Whether it is a secret.
    pub fn is_secret(&self) -> bool {
        matches!(self, Held::Secret(_))
    }

    /// The value if anybody may see it.
    pub fn open(&self) -> Option<&Value> {
        match self {
            Held::Open(value) => Some(value),
            Held::Secret(_) => None,
        }
    }

    /// The same as a secret.
    #[must_use]
    pub fn into_secret(self) -> Self {
        match self {
            Held::Open(value) => Held::Secret(Box::new(Secret(value))),
            secret @ Held::Secret(_) => secret,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_text_form_is_plain_decimal_iso_and_compact_json() {
        let map = Value::Map([("b".into(), Value::text("2")), ("a".into(), Value::text("é\""))].into());
        for (value, text) in [
            (Value::Integer(-7), "-7"),
            (Value::Number(2.0), "2.0"),
            (Value::Number(0.25), "0.25"),
            (Value::Number(1e21), "1000000000000000000000.0"),
            (Value::Boolean(true), "true"),
            (Value::Date(jiff::civil::date(2027, 1, 31)), "2027-01-31"),
            (Value::List(vec![Value::text("a"), Value::text("b")]), r#"["a","b"]"#),
            (map, r#"{"a":"é\"","b":"2"}"#),
        ] {
            assert_eq!(value.to_text(), text);
        }
    }

    #[test]
    fn plain_values_are_plain_and_the_rest_stays() {
        for (text, plain) in [
            ("3", true),
            ("0.25", true),
            ("[\"a\"]", true),
            ("12345678901234567890", false),
            ("0.12345678901234567891", false),
            ("[1]", false),
            ("null", false),
        ] {
            let value = Json::parse(text).unwrap().into_value();
            assert_eq!(!matches!(value, Value::Json(_)), plain, "{text}");
            assert!(Json::of_value(&value) == Json::parse(text).unwrap(), "{text}");
        }
    }

    #[test]
    fn a_secret_does_not_print() {
        let secret = Held::new(Value::text("plover"), true);
        assert!(!format!("{secret:?}").contains("plover"));
        assert!(!format!("{:?}", secret.expose()).contains("plover"));
        assert_eq!(secret.expose().as_text(), Some("plover"));
    }
}
