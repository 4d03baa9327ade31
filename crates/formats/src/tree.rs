//! Reading a tree from any format that describes itself.

use std::fmt;

use cledger_core::tree::{Branch, Tree};
use cledger_core::value::Value;
use serde::de::{self, Deserialize, Deserializer, MapAccess, SeqAccess, Visitor};

/// A tree, as a self-describing format gives it.
pub(crate) struct ReadTree(pub(crate) Tree);

/// A value as a self-describing format gives it; `None` for null, which no field can be.
pub(crate) struct Read(Option<Value>);

impl<'de> Deserialize<'de> for ReadTree {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        match Read::deserialize(deserializer)?.0 {
            Some(Value::Map(branch)) => Ok(ReadTree(Tree(branch))),
            None => Ok(ReadTree(Tree::default())),
            Some(other) => {
                let found = other.type_name();
                Err(de::Error::custom(format!("names with values are expected, and this is a {found}")))
            }
        }
    }
}

impl<'de> Deserialize<'de> for Read {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(Reader).map(Read)
    }
}

struct Reader;

impl<'de> Visitor<'de> for Reader {
    type Value = Option<Value>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value")
    }

    fn visit_bool<E>(self, truth: bool) -> Result<Self::Value, E> {
        Ok(Some(Value::Boolean(truth)))
    }

    fn visit_i64<E>(self, number: i64) -> Result<Self::Value, E> {
        Ok(Some(Value::Integer(number)))
    }

    fn visit_u64<E>(self, number: u64) -> Result<Self::Value, E> {
        #[expect(clippy::cast_precision_loss, reason = "no field holds so large a number")]
        Ok(Some(i64::try_from(number).map_or(Value::Number(number as f64), Value::Integer)))
    }

    fn visit_f64<E>(self, number: f64) -> Result<Self::Value, E> {
        Ok(Some(Value::Number(number)))
    }

    fn visit_str<E>(self, text: &str) -> Result<Self::Value, E> {
        Ok(Some(Value::text(text)))
    }

    fn visit_unit<E>(self) -> Result<Self::Value, E> {
        Ok(None)
    }

    fn visit_none<E>(self) -> Result<Self::Value, E> {
        Ok(None)
    }

    fn visit_some<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_any(self)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Self::Value, A::Error> {
        let mut list = Vec::new();
        while let Some(Read(item)) = items.next_element()? {
            list.push(item.ok_or_else(|| de::Error::custom("a list holds null, which is no value"))?);
        }
        Ok(Some(Value::List(list)))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut entries: A) -> Result<Self::Value, A::Error> {
        let mut branch = Branch::new();
        while let Some((name, Read(value))) = entries.next_entry::<String, Read>()? {
            let Some(value) = value else { continue };
            if branch.insert(name.as_str().into(), value).is_some() {
                return Err(de::Error::custom(format!("the name `{name}` is there twice")));
            }
        }
        Ok(Some(Value::Map(branch)))
    }
}
