//! Reading nodes from any format that describes itself (JSON, YAML).

use std::collections::BTreeSet;
use std::fmt;
use std::marker::PhantomData;

use cledger_core::json::Json;
use cledger_core::value::Value;
use serde::de::{self, Deserialize, Deserializer, MapAccess, SeqAccess, Visitor};
use serde_saphyr::Spanned;

use crate::found::Node;

/// A name as a format gives it, with its line if the format tells it.
pub(crate) trait Key<'de>: Deserialize<'de> {
    /// The name, and its line from 1; 1 where the format does not tell.
    fn parts(self) -> (String, usize);
}

impl Key<'_> for String {
    fn parts(self) -> (String, usize) {
        (self, 1)
    }
}

impl Key<'_> for Spanned<String> {
    fn parts(self) -> (String, usize) {
        let line = usize::try_from(self.referenced.line()).unwrap_or(1);
        (self.value, line)
    }
}

/// A node whose names are of this form.
pub(crate) struct ReadNode<K>(pub(crate) Node, pub(crate) PhantomData<K>);

impl<'de, K: Key<'de>> Deserialize<'de> for ReadNode<K> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(Reader::<K>(PhantomData)).map(|node| ReadNode(node, PhantomData))
    }
}

struct Reader<K>(PhantomData<K>);

impl<'de, K: Key<'de>> Visitor<'de> for Reader<K> {
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
        Ok(Node::Value(Json::Number(number.to_string().into()).into_value()))
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
        while let Some(ReadNode(item, PhantomData::<K>)) = items.next_element()? {
            list.push(item.into_json());
        }
        Ok(Node::Value(Json::List(list).into_value()))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut entries: A) -> Result<Node, A::Error> {
        let (mut names, mut known) = (Vec::new(), BTreeSet::new());
        while let Some((key, ReadNode(node, PhantomData::<K>))) = entries.next_entry::<K, ReadNode<K>>()? {
            let (name, line) = key.parts();
            if !known.insert(name.clone()) {
                return Err(de::Error::custom(format!("the name `{name}` is there twice")));
            }
            names.push((name, line, node));
        }
        Ok(Node::Level(names))
    }
}
