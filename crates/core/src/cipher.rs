//! Cipher texts: secrets that stand encrypted among the settings, and the keys that open them.
//!
//! The core knows how a cipher text is recognised and what it is bound to; how it is opened is
//! [`crate::resolve::Outside`]'s business.

use std::fmt;

use compact_str::CompactString;

use crate::model::{LayerId, Ledger};
use crate::name::Name;
use crate::types::Type;
use crate::value::{Held, Value};

/// How cipher text begins.
pub const CIPHER_PREFIX: &str = "copper-1.";

/// Whether text is, or is meant to be, cipher text of any version: `copper-`, a number, a dot.
pub fn is_cipher(text: &str) -> bool {
    let digits = |rest: &str| rest.bytes().take_while(u8::is_ascii_digit).count();
    text.strip_prefix("copper-")
        .is_some_and(|rest| digits(rest) > 0 && rest.as_bytes().get(digits(rest)) == Some(&b'.'))
}

/// Whether some text in a value is cipher text.
pub fn holds_cipher(value: &Value) -> bool {
    match value {
        Value::Text(text) => is_cipher(text),
        Value::List(items) => items.iter().any(holds_cipher),
        Value::Map(map) => map.values().any(holds_cipher),
        _ => false,
    }
}

/// Whose data key a secret is encrypted under: each stage and each group has one of its own.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum KeyScope {
    /// A stage's.
    Stage(Name),
    /// A group's.
    Group(Name),
}

impl KeyScope {
    /// The stage's or group's name.
    pub fn name(&self) -> &Name {
        match self {
            KeyScope::Stage(name) | KeyScope::Group(name) => name,
        }
    }
}

/// `stages/test` or `groups/production`: unlike names alone, this tells the two kinds apart.
impl fmt::Display for KeyScope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            KeyScope::Stage(name) => write!(f, "stages/{name}"),
            KeyScope::Group(name) => write!(f, "groups/{name}"),
        }
    }
}

/// A cipher text, and the setting that it stands in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cipher {
    /// The text, with its prefix.
    pub text: CompactString,
    /// The stage or group whose settings it is among.
    pub layer: LayerId,
    /// The setting's address without stage: `shared/bookings-db.password`.
    pub address: String,
}

/// The secret that a field of this type has when its cipher text opens to this; `None` if that is not
/// of the type. It is the text form of [`Value::to_text`], and holds no references.
pub fn secret_of(text: &str, this: Type) -> Option<Held> {
    let value = match this {
        Type::List | Type::Map => Value::from_json(serde_json::from_str(text).ok()?)?,
        _ => this.read(text)?,
    };
    let secret = Held::new(value, true);
    this.fits(secret.expose()).then_some(secret)
}

impl Ledger {
    /// Whose data key counts for the settings of a layer.
    pub fn key_scope(&self, layer: LayerId) -> KeyScope {
        let name = self.layer_name(layer).clone();
        match layer {
            LayerId::Stage(_) => KeyScope::Stage(name),
            LayerId::Group(_) => KeyScope::Group(name),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_keep_their_type_by_way_of_text() {
        let map = Value::Map([("a".into(), Value::text("1\n")), ("b".into(), Value::text("${x}"))].into());
        for (value, this) in [
            (Value::text("plover\0\n"), Type::Text),
            (Value::text(""), Type::Text),
            (Value::Integer(-7), Type::Integer),
            (Value::Number(2.0), Type::Number),
            (Value::Boolean(true), Type::Boolean),
            (Value::List(vec![Value::text("a"), Value::text("\"")]), Type::List),
            (map, Type::Map),
        ] {
            let held = secret_of(&value.to_text(), this);
            assert!(held.is_some_and(|held| *held.expose() == value), "{this:?}");
        }
        assert!(secret_of("plover", Type::Integer).is_none() && secret_of("{", Type::Map).is_none());
    }

    #[test]
    fn cipher_text_of_any_version_is_recognised() {
        for (text, expected) in [
            ("copper-1.AAAA", true),
            ("copper-12.", true),
            ("copper-.x", false),
            ("copper-1", false),
            ("copper-1x.", false),
            ("Copper-1.x", false),
            ("a copper-1.x", false),
        ] {
            assert_eq!(is_cipher(text), expected, "{text}");
        }
    }
}
