//! YAML 1.2. All text is quoted, so that readers of YAML 1.1 take `no`, `12:30:45` or `0123` as
//! text too.

use std::fmt;

use cledger_core::value::Value;
use serde::de::{self, Deserialize, Deserializer, MapAccess, SeqAccess, Visitor};
use serde_saphyr::Spanned;

use crate::found::Node;
use crate::{Format, Found, ReadError, Tree, WriteError, start};

pub(crate) struct Yaml;

impl Format for Yaml {
    fn write(&self, tree: &Tree) -> Result<String, WriteError> {
        write(&Value::Map(tree.0.clone()).to_json())
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        Found::of_root(read(start(text)?)?)
    }
}

/// The text of a document with every text in it quoted.
pub(crate) fn write(document: &serde_json::Value) -> Result<String, WriteError> {
    let options = serde_saphyr::ser_options! {
        prefer_block_scalars: false,
        quote_all: true,
    };
    serde_saphyr::to_string_with_options(document, options)
        .map_err(|error| WriteError { name: String::new(), reason: error.to_string() })
}

/// What is in a document.
pub(crate) fn read(text: &str) -> Result<Node, ReadError> {
    let options = serde_saphyr::options! {
        strict_booleans: true,
        leading_zero_numbers_as_strings: true,
        underscored_numbers_as_strings: true,
        with_snippet: false,
    };
    if text.trim().is_empty() {
        return Ok(Node::Null);
    }
    let read = serde_saphyr::from_str_with_options(text, options);
    read.map(|ReadNode(node)| node).map_err(|error| {
        let line = error.location().map_or(1, |location| location.line());
        ReadError { line: usize::try_from(line).unwrap_or(1).max(1), reason: error.to_string() }
    })
}

struct ReadNode(Node);

impl<'de> Deserialize<'de> for ReadNode {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(Reader).map(ReadNode)
    }
}

struct Reader;

impl<'de> Visitor<'de> for Reader {
    type Value = Node;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value")
    }

    fn visit_bool<E>(self, truth: bool) -> Result<Node, E> {
        Ok(Node::Value(Value::Boolean(truth)))
    }

    fn visit_i64<E>(self, number: i64) -> Result<Node, E> {
        Ok(Node::Value(Value::Integer(number)))
    }

    fn visit_u64<E>(self, number: u64) -> Result<Node, E> {
        #[expect(clippy::cast_precision_loss, reason = "no field holds so large a number")]
        let value = i64::try_from(number).map_or(Value::Number(number as f64), Value::Integer);
        Ok(Node::Value(value))
    }

    fn visit_f64<E>(self, number: f64) -> Result<Node, E> {
        Ok(Node::Value(Value::Number(number)))
    }

    fn visit_str<E>(self, text: &str) -> Result<Node, E> {
        Ok(Node::Value(Value::text(text)))
    }

    fn visit_unit<E>(self) -> Result<Node, E> {
        Ok(Node::Null)
    }

    fn visit_none<E>(self) -> Result<Node, E> {
        Ok(Node::Null)
    }

    fn visit_some<D: Deserializer<'de>>(self, deserializer: D) -> Result<Node, D::Error> {
        deserializer.deserialize_any(self)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Node, A::Error> {
        let mut list = Vec::new();
        while let Some(ReadNode(item)) = items.next_element()? {
            list.push(value_of(item)?);
        }
        Ok(Node::Value(Value::List(list)))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut entries: A) -> Result<Node, A::Error> {
        let mut names = Vec::new();
        while let Some((name, ReadNode(node))) = entries.next_entry::<Spanned<String>, ReadNode>()? {
            let line = usize::try_from(name.referenced.line()).unwrap_or(1);
            names.push((name.value, line, node));
        }
        Ok(Node::Level(names))
    }
}

/// The value of something inside a list, where lines are not told.
fn value_of<E: de::Error>(node: Node) -> Result<Value, E> {
    Ok(match node {
        Node::Null => return Err(E::custom("a list holds null, which is no value")),
        Node::Value(value) => value,
        Node::Level(names) => {
            let given = names.into_iter().filter(|(_, _, node)| !matches!(node, Node::Null));
            let pairs = given.map(|(name, _, node)| Ok((name.as_str().into(), value_of(node)?)));
            Value::Map(pairs.collect::<Result<_, E>>()?)
        }
    })
}
