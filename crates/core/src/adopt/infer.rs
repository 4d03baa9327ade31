//! Types, inferred from the values of all stages together.

use std::collections::BTreeMap;

use super::words::words;
use super::{OldField, OldPlace, OldValue};
use crate::json::Json;
use crate::model::{OutputFormat, StageId};
use crate::types::Type;
use crate::value::Value;

/// The first whole number that a number of 64 bits (IEEE 754) does not tell from the next.
const INEXACT: f64 = 9_007_199_254_740_992.0;

/// Whether a number may have lost digits when it was read.
fn is_inexact(old: &OldValue) -> bool {
    !old.is_exact && matches!(old.value, Value::Number(number) if number.abs() >= INEXACT)
}

/// The value of a type that a file's value is; `None` if it is none, or would come out otherwise.
fn as_type(old: &OldValue, this: Type) -> Option<Value> {
    if is_inexact(old) {
        return None;
    }
    let is_json = matches!(old.value, Value::Json(_));
    if this == Type::Json {
        return (is_json || !old.is_bare).then(|| Value::text(&Json::of_value(&old.value).to_string()));
    }
    if is_json {
        return None;
    }
    if !old.is_bare {
        return this.fits(&old.value).then(|| old.value.clone());
    }
    let text = old.value.to_text();
    let read = match this {
        Type::List | Type::Map => None,
        // A whole number will do.
        Type::Number => Type::Integer.read(&text).or_else(|| Type::Number.read(&text)),
        Type::Date => Some(Value::Text(text.clone())),
        _ => this.read(&text),
    };
    read.filter(|value| this.fits(value) && value.to_text() == text)
}

/// All values of a field as values of a type, if they all are.
pub(super) fn all_as(field: &OldField, this: Type) -> Option<BTreeMap<StageId, Value>> {
    let values = field.values.iter();
    values.map(|(stage, old)| Some((*stage, as_type(old, this)?))).collect()
}

/// The narrowest type that one value under a name has in a file of this format, and the value of it; a
/// reason where there is none.
pub fn inferred(format: OutputFormat, name: &[String], value: &Value) -> Result<(Type, Value), String> {
    let place = OldPlace { file: 0, line: 0 };
    let old = OldValue::new(value.clone(), format, place);
    let field = OldField {
        names: [(0, (format, name.to_vec()))].into(),
        values: [(StageId(0), old)].into(),
        ..OldField::default()
    };
    let (this, mut values) = infer(&field)?;
    values.pop_first().map(|(_, value)| (this, value)).ok_or_else(|| reason(&field))
}

/// The narrowest type that all values have, and the values of it; a reason where there is none.
pub(super) fn infer(field: &OldField) -> Result<(Type, BTreeMap<StageId, Value>), String> {
    let words = words(field.name());
    let last = words.last().map(String::as_str).unwrap_or_default();
    let named = |known: &[&str]| known.contains(&last);
    let candidates = [
        (Type::Boolean, true),
        (Type::Port, last.ends_with("port")),
        (Type::Integer, true),
        (Type::Number, true),
        (Type::Date, true),
        (Type::Duration, true),
        (Type::Size, true),
        (Type::Pem, true),
        (Type::Url, true),
        (Type::Host, named(&["host", "hostname", "server", "domain"])),
        (Type::Path, named(&["path", "dir", "directory", "folder", "file"])),
        (Type::Text, true),
        (Type::List, true),
        (Type::Map, true),
        (Type::Json, true),
    ];
    let wanted = candidates.into_iter().filter(|(_, may)| *may).map(|(this, _)| this);
    let mut found = wanted.filter_map(|this| Some((this, all_as(field, this)?)));
    found.next().ok_or_else(|| reason(field))
}

fn reason(field: &OldField) -> String {
    let mut names: Vec<&str> = field.values.values().map(|old| old.value.type_name()).collect();
    names.sort_unstable();
    names.dedup();
    if field.values.values().any(is_inexact) {
        return "so long a number is not held to its last digit".to_owned();
    }
    match &names[..] {
        [only] => format!("a value of the type {only} has no type here"),
        _ => format!("its values are of different types ({}) in different files", names.join(", ")),
    }
}
