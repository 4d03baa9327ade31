//! JSON as it is (RFC 8259): nulls, mixed lists, and numbers with all their digits, names in their order.

mod parts;

use std::collections::BTreeSet;
use std::fmt;

use compact_str::CompactString;
use serde::de::{Deserialize, Deserializer, Error as _, MapAccess, Visitor};
use serde::ser::{Error as _, Serialize, SerializeMap as _, Serializer};
use serde_json::value::RawValue;
use zeroize::Zeroize as _;

pub use self::parts::{NoWay, steps};

/// How deep levels may be nested.
const DEEPEST: usize = 100;

/// A JSON text in its parts.
#[derive(Clone)]
pub enum Json {
    /// `null`.
    Null,
    /// `true` or `false`.
    Boolean(bool),
    /// A number, as it is written.
    Number(CompactString),
    /// A string.
    Text(CompactString),
    /// A list.
    List(Vec<Json>),
    /// Names with what they stand for, in their order.
    Object(Vec<(CompactString, Json)>),
}

/// Objects with the same names and values are the same, in whatever order, and numbers with a fraction that one of 64
/// bits holds are by what they come to; others by their digits.
impl PartialEq for Json {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Json::Null, Json::Null) => true,
            (Json::Boolean(one), Json::Boolean(other)) => one == other,
            (Json::Number(one), Json::Number(other)) => {
                one == other || fraction(one).is_some_and(|it| fraction(other) == Some(it))
            }
            (Json::Text(one), Json::Text(other)) => one == other,
            (Json::List(one), Json::List(other)) => one == other,
            (Json::Object(one), Json::Object(other)) => {
                one.len() == other.len() && by_name(one) == by_name(other)
            }
            _ => false,
        }
    }
}

fn by_name(pairs: &[(CompactString, Json)]) -> Vec<&(CompactString, Json)> {
    let mut pairs: Vec<&(CompactString, Json)> = pairs.iter().collect();
    pairs.sort_by(|(one, _), (other, _)| one.cmp(other));
    pairs
}

/// The text in one line, without blanks.
impl fmt::Display for Json {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&serde_json::to_string(self).map_err(|_| fmt::Error)?)
    }
}

/// Why a text is no JSON, and in which line and column. Never a part of the text.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{reason} in line {line}, column {column}")]
pub struct NoJson {
    /// What is wrong.
    pub reason: String,
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1.
    pub column: usize,
}

impl From<serde_json::Error> for NoJson {
    fn from(error: serde_json::Error) -> Self {
        let whole = error.to_string();
        let reason = whole.split(" at line ").next().unwrap_or(&whole).to_owned();
        // What stands in quotes there is a part of the text.
        let reason =
            if reason.contains('`') || reason.contains('"') { "it is no JSON".to_owned() } else { reason };
        Self { reason, line: error.line(), column: error.column() }
    }
}

impl Json {
    /// Reads a JSON text.
    pub fn parse(text: &str) -> Result<Self, NoJson> {
        Self::of(serde_json::from_str::<&RawValue>(text)?, 0)
    }

    fn of(raw: &RawValue, depth: usize) -> Result<Self, NoJson> {
        if depth > DEEPEST {
            let reason = format!("it is nested deeper than {DEEPEST} levels");
            return Err(NoJson { reason, line: 1, column: 1 });
        }
        let text = raw.get();
        Ok(match text.as_bytes().first() {
            Some(b'{') => {
                let Pairs(pairs) = serde_json::from_str(text)?;
                let pair = |(name, raw)| Ok((name, Self::of(raw, depth + 1)?));
                Json::Object(pairs.into_iter().map(pair).collect::<Result<_, NoJson>>()?)
            }
            Some(b'[') => {
                let items: Vec<&RawValue> = serde_json::from_str(text)?;
                Json::List(items.into_iter().map(|raw| Self::of(raw, depth + 1)).collect::<Result<_, _>>()?)
            }
            Some(b'"') => Json::Text(serde_json::from_str::<String>(text)?.into()),
            Some(b'n') => Json::Null,
            Some(b't' | b'f') => Json::Boolean(serde_json::from_str(text)?),
            _ => Json::Number(text.into()),
        })
    }

    /// The first number in it that readers of other forms get with other digits.
    pub fn inexact(&self) -> Option<&str> {
        match self {
            Json::Number(text) => {
                let is_whole = text.parse::<i64>().is_ok() || text.parse::<u64>().is_ok();
                let is_held = is_whole || text.parse().is_ok_and(|number| is_exact(text, number));
                (!is_held).then_some(text)
            }
            Json::List(items) => items.iter().find_map(Json::inexact),
            Json::Object(pairs) => pairs.iter().find_map(|(_, json)| json.inexact()),
            Json::Null | Json::Boolean(_) | Json::Text(_) => None,
        }
    }

    /// A text as the inside of a JSON string.
    pub fn escape(text: &str) -> String {
        let quoted = Json::Text(text.into()).to_string();
        quoted.get(1..quoted.len() - 1).unwrap_or_default().to_owned()
    }

    pub(crate) fn wipe(&mut self) {
        match self {
            Json::Null => {}
            Json::Boolean(truth) => truth.zeroize(),
            Json::Number(text) | Json::Text(text) => text.zeroize(),
            Json::List(items) => items.iter_mut().for_each(Json::wipe),
            Json::Object(pairs) => pairs.iter_mut().for_each(|(_, json)| json.wipe()),
        }
    }
}

/// What digits with a fraction or an exponent come to, if a number of 64 bits says all of it.
fn fraction(text: &str) -> Option<f64> {
    let number: f64 = text.parse().ok()?;
    (text.contains(['.', 'e', 'E']) && is_exact(text, number)).then_some(number)
}

/// Whether a number of 64 bits (IEEE 754) says all that these digits do: 15 of them always come back.
pub(crate) fn is_exact(text: &str, number: f64) -> bool {
    let mantissa = text.split(['e', 'E']).next().unwrap_or_default();
    let digits: String = mantissa.chars().filter(char::is_ascii_digit).collect();
    number.is_finite() && digits.trim_start_matches('0').len() <= 15
        || serde_json::Number::from_f64(number).is_some_and(|it| it.to_string() == text)
}

/// The names of an object in their order, each once.
struct Pairs<'t>(Vec<(CompactString, &'t RawValue)>);

impl<'de> Deserialize<'de> for Pairs<'de> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reader;

        impl<'de> Visitor<'de> for Reader {
            type Value = Pairs<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut entries: A) -> Result<Self::Value, A::Error> {
                let (mut pairs, mut known) = (Vec::new(), BTreeSet::new());
                while let Some((name, raw)) = entries.next_entry::<String, &RawValue>()? {
                    if !known.insert(name.clone()) {
                        return Err(A::Error::custom("a name is there twice"));
                    }
                    pairs.push((name.into(), raw));
                }
                Ok(Pairs(pairs))
            }
        }

        deserializer.deserialize_map(Reader)
    }
}

/// For JSON, where numbers keep their digits.
impl Serialize for Json {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Json::Null => serializer.serialize_unit(),
            Json::Boolean(truth) => serializer.serialize_bool(*truth),
            Json::Text(text) => serializer.serialize_str(text),
            Json::Number(text) => {
                RawValue::from_string(text.to_string()).map_err(S::Error::custom)?.serialize(serializer)
            }
            Json::List(items) => serializer.collect_seq(items),
            Json::Object(pairs) => {
                let mut map = serializer.serialize_map(Some(pairs.len()))?;
                for (name, json) in pairs {
                    map.serialize_entry(name.as_str(), json)?;
                }
                map.end()
            }
        }
    }
}

/// The same for other forms, which get numbers as such: [`Json::inexact`] says whether that loses digits.
#[derive(Debug)]
pub struct Plainly<'j>(pub &'j Json);

impl Serialize for Plainly<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.0 {
            Json::Number(text) => match (text.parse::<i64>(), text.parse::<u64>()) {
                (Ok(whole), _) => serializer.serialize_i64(whole),
                (_, Ok(whole)) => serializer.serialize_u64(whole),
                _ => serializer.serialize_f64(text.parse().map_err(S::Error::custom)?),
            },
            Json::List(items) => serializer.collect_seq(items.iter().map(Plainly)),
            Json::Object(pairs) => {
                serializer.collect_map(pairs.iter().map(|(name, json)| (name.as_str(), Plainly(json))))
            }
            other => other.serialize(serializer),
        }
    }
}

// Values may be secrets.
impl fmt::Debug for Json {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("(json)")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_comes_back_with_all_its_digits_and_names_in_order() {
        for text in [
            r#"{"z":1,"a":[null,{"n":0.10},"é\n"],"m":12345678901234567890123.5e-3}"#,
            "null",
            "[]",
            "{}",
            "-0.0",
            r#""\" \\ /""#,
        ] {
            let json = Json::parse(text).unwrap();
            assert_eq!(json.to_string(), text);
        }
        for bad in ["", "{", "[1,]", "{\"a\":1,\"a\":2}", "nul", "01", "'a'", &"[".repeat(300)] {
            assert!(Json::parse(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn order_is_no_difference_and_null_is_one() {
        let same = |one: &str, other: &str| Json::parse(one).unwrap() == Json::parse(other).unwrap();
        assert!(same(r#"{"a":1,"b":[2]}"#, r#"{ "b": [2], "a": 1 }"#));
        assert!(!same(r#"{"a":null}"#, "{}") && !same("[1,2]", "[2,1]") && !same("1", "1.0"));
        assert!(same("[1.0]", "[1.00]") && !same("[1.00000000000000000001]", "[1.0]"));
    }
}
