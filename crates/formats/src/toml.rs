//! TOML 1.0. Days and times are read as text, which is how they are written.

use cledger_core::json::Json;
use cledger_core::tree::Branch;
use cledger_core::value::Value;
use toml::de::{DeTable, DeValue};

use crate::found::Node;
use crate::{Format, Found, Order, ReadError, Tree, WriteError, start};

pub(crate) struct Toml;

impl Format for Toml {
    fn write_in(&self, order: &Order, tree: &Tree) -> Result<String, WriteError> {
        for (steps, value) in tree.leaves() {
            if let Value::Json(json) = value
                && let Some(reason) = refused(json)
            {
                return Err(WriteError { name: steps.join("."), reason: reason.to_owned() });
            }
        }
        toml::to_string(&table(order, &mut Vec::new(), &tree.0))
            .map_err(|error| WriteError { name: String::new(), reason: error.to_string() })
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        let text = start(text)?;
        let line = |at: usize| text.get(..at).unwrap_or(text).matches('\n').count() + 1;
        let table = DeTable::parse(text).map_err(|error| {
            let at = error.span().map_or(0, |span| span.start);
            ReadError { line: line(at), reason: error.message().to_owned() }
        })?;
        Found::of_root(level(table.get_ref(), &Lines::of(text))?)
    }
}

fn table<'b>(order: &Order, steps: &mut Vec<&'b str>, branch: &'b Branch) -> toml::Table {
    let mut table = toml::Table::new();
    for (name, value) in order.sorted(steps, branch) {
        steps.push(name);
        table.insert(name.to_string(), written(order, steps, value));
        steps.pop();
    }
    table
}

fn written<'b>(order: &Order, steps: &mut Vec<&'b str>, value: &'b Value) -> toml::Value {
    match value {
        Value::Integer(number) => toml::Value::Integer(*number),
        Value::Number(number) => toml::Value::Float(*number),
        Value::Boolean(truth) => toml::Value::Boolean(*truth),
        Value::List(items) => {
            toml::Value::Array(items.iter().map(|item| written(order, steps, item)).collect())
        }
        Value::Map(level) => toml::Value::Table(table(order, steps, level)),
        Value::Json(json) => of_json(json),
        Value::Text(_) | Value::Date(_) | Value::Time(_) => toml::Value::String(value.to_text().into()),
    }
}

/// What of JSON has no form in TOML.
fn refused(json: &Json) -> Option<&'static str> {
    match json {
        Json::Null => Some("is null, or holds it, which TOML has not"),
        Json::Number(text) => {
            let is_whole = !text.contains(['.', 'e', 'E']);
            let is_held = text.parse::<i64>().is_ok() || !is_whole && json.inexact().is_none();
            (!is_held).then_some("has a number of more digits than readers of TOML keep")
        }
        Json::List(items) => items.iter().find_map(refused),
        Json::Object(pairs) => pairs.iter().find_map(|(_, json)| refused(json)),
        Json::Boolean(_) | Json::Text(_) => None,
    }
}

fn of_json(json: &Json) -> toml::Value {
    match json {
        Json::Null => toml::Value::String(String::new()),
        Json::Boolean(truth) => toml::Value::Boolean(*truth),
        Json::Text(text) => toml::Value::String(text.to_string()),
        Json::Number(text) => match text.parse() {
            Ok(whole) => toml::Value::Integer(whole),
            Err(_) => toml::Value::Float(text.parse().unwrap_or(f64::NAN)),
        },
        Json::List(items) => toml::Value::Array(items.iter().map(of_json).collect()),
        Json::Object(pairs) => {
            toml::Value::Table(pairs.iter().map(|(name, json)| (name.to_string(), of_json(json))).collect())
        }
    }
}

/// Where each line of a text ends.
struct Lines(Vec<usize>);

impl Lines {
    fn of(text: &str) -> Self {
        Self(text.match_indices('\n').map(|(at, _)| at).collect())
    }

    fn at(&self, offset: usize) -> usize {
        self.0.partition_point(|&end| end < offset) + 1
    }
}

fn level(table: &DeTable<'_>, lines: &Lines) -> Result<Node, ReadError> {
    let mut names = Vec::new();
    for (name, item) in table {
        let line = lines.at(name.span().start);
        let node = match item.get_ref() {
            DeValue::Table(below) => level(below, lines)?,
            value => Node::Value(read(value, line)?),
        };
        names.push((name.get_ref().to_string(), line, node));
    }
    Ok(Node::Level(names))
}

fn read(value: &DeValue<'_>, line: usize) -> Result<Value, ReadError> {
    Ok(match value {
        DeValue::String(text) => Value::text(text),
        DeValue::Integer(number) => {
            let reason = || "this number does not fit into 64 bits".to_owned();
            let read = i64::from_str_radix(number.as_str(), number.radix());
            Value::Integer(read.map_err(|_| ReadError { line, reason: reason() })?)
        }
        DeValue::Float(number) => Value::Number(number.as_str().parse().unwrap_or(f64::NAN)),
        DeValue::Boolean(truth) => Value::Boolean(*truth),
        DeValue::Datetime(moment) => Value::text(&moment.to_string()),
        DeValue::Array(items) => {
            let items = items.iter().map(|item| Ok(Json::of_value(&read(item.get_ref(), line)?)));
            Json::List(items.collect::<Result<_, ReadError>>()?).into_value()
        }
        DeValue::Table(table) => {
            let pair =
                |(name, item): (&toml::Spanned<toml::de::DeString<'_>>, &toml::Spanned<DeValue<'_>>)| {
                    Ok((name.get_ref().as_ref().into(), read(item.get_ref(), line)?))
                };
            Value::Map(table.iter().map(pair).collect::<Result<_, _>>()?)
        }
    })
}
