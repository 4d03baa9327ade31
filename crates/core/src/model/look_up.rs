//! Where the other side keeps a value that it assigns.

use percent_encoding::percent_decode_str;

use super::{StageText, StageTextError};
use crate::json::Json;
use crate::name::Name;
use crate::tree::Tree;
use crate::value::Value;

/// Where a setting's value can be looked up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LookUp {
    text: String,
    /// What it names.
    pub source: LookUpSource,
}

/// What a look-up names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LookUpSource {
    /// A place in the JSON document at an address.
    Address {
        /// The address, without its fragment.
        url: StageText,
        /// The steps to the value.
        steps: Vec<String>,
    },
    /// A value of the same unit in an outlet.
    Outlet {
        /// The outlet.
        name: Name,
        /// The steps to the value; the field's own name there if not given.
        steps: Option<Vec<String>>,
    },
}

/// Why a text says nowhere to look.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum LookUpError {
    /// It is neither an address nor the name of an outlet.
    #[error("`looked_up` names neither an address nor an outlet")]
    Nothing,
    /// An address without a place in its document.
    #[error("`looked_up` does not say where in the document: `#/` and the names to go by are missing")]
    NoPointer,
    /// What stands behind `#` does not begin with `/`.
    #[error("what stands behind `#` begins with `/`, as JSON Pointers do")]
    NotPointer,
    /// A reference that cannot stand there.
    #[error(transparent)]
    Text(#[from] StageTextError),
}

impl LookUp {
    /// Reads `https://HOST/PATH#/JSON/POINTER`, `OUTLET` or `OUTLET#/JSON/POINTER` (RFC 6901, section 6).
    pub fn parse(text: &str) -> Result<Self, LookUpError> {
        let (place, pointer) = match text.split_once('#') {
            Some((place, pointer)) => (place, Some(steps(pointer).ok_or(LookUpError::NotPointer)?)),
            None => (text, None),
        };
        let source = if place.starts_with("http://") || place.starts_with("https://") {
            let steps = pointer.ok_or(LookUpError::NoPointer)?;
            LookUpSource::Address { url: StageText::parse(place)?, steps }
        } else {
            let name = Name::parse(place).map_err(|_| LookUpError::Nothing)?;
            LookUpSource::Outlet { name, steps: pointer }
        };
        Ok(Self { text: text.to_owned(), source })
    }

    /// The text as it is written.
    pub fn as_written(&self) -> &str {
        &self.text
    }
}

/// The steps of a JSON Pointer in a fragment.
fn steps(pointer: &str) -> Option<Vec<String>> {
    let decoded = percent_decode_str(pointer).decode_utf8().ok()?;
    let steps = decoded.strip_prefix('/')?.split('/');
    Some(steps.map(|step| step.replace("~1", "/").replace("~0", "~")).collect())
}

/// The value below these steps, also within lists, where a step is a position from 0.
pub fn value_at(tree: &Tree, steps: &[String]) -> Option<Value> {
    let (first, rest) = steps.split_first()?;
    let mut value = Json::of_value(tree.0.get(first.as_str())?);
    for step in rest {
        value = match value {
            Json::Object(pairs) => pairs.into_iter().find(|(name, _)| name == step)?.1,
            Json::List(mut items) => {
                let at: usize = step.parse().ok()?;
                (at < items.len()).then(|| items.swap_remove(at))?
            }
            _ => return None,
        };
    }
    Some(value.into_value())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_read_and_found() {
        let address = LookUp::parse("https://r.example/${stage.name}/desks#/by%20quay/1/a~1b").unwrap();
        let LookUpSource::Address { url, steps } = address.source else { panic!("an address") };
        assert_eq!(url.as_written(), "https://r.example/${stage.name}/desks");
        assert_eq!(steps, ["by quay", "1", "a/b"]);
        let mut tree = Tree::default();
        let row = Value::Map([("a/b".into(), Value::Integer(7))].into());
        tree.insert(&["by quay".to_owned()], Value::List(vec![Value::Boolean(true), row]));
        assert!(value_at(&tree, &steps) == Some(Value::Integer(7)));
        assert!(value_at(&tree, &["by quay".to_owned(), "2".to_owned()]).is_none());
        assert!(LookUp::parse("boards").is_ok() && LookUp::parse("boards#/id").is_ok());
        for (text, error) in [
            ("http://r.example/x", LookUpError::NoPointer),
            ("http://r.example/x#id", LookUpError::NotPointer),
            ("ftp://r.example/x#/id", LookUpError::Nothing),
            ("", LookUpError::Nothing),
        ] {
            assert_eq!(LookUp::parse(text), Err(error), "{text}");
        }
    }
}
