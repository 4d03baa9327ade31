//! The types that a field can have, and what fits them.

use std::net::IpAddr;

use jiff::civil::Date;

use crate::json::Json;
use crate::reference::{Piece, pieces};
use crate::value::Value;

mod measure;

pub use measure::Measure;

/// The type of a field.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Type {
    /// Any text; the type where none is given.
    Text,
    /// A whole number of 64 bits.
    Integer,
    /// A finite number; an integer will do.
    Number,
    /// `true` or `false`.
    Boolean,
    /// `scheme://…`, the scheme as in RFC 3986 section 3.1.
    Url,
    /// A host name (RFC 1123; underscores are let through) or an IP address.
    Host,
    /// 1 to 65535.
    Port,
    /// A path of the file system.
    Path,
    /// `250ms`, `1h30m`: digits with `ms`, `s`, `m`, `h` or `d`, repeated.
    Duration,
    /// `64MiB`: digits with `B`, `kB`, `MB`, `GB`, `TB`, `KiB`, `MiB`, `GiB` or `TiB`.
    Size,
    /// A TOML date, or `YYYY-MM-DD` as text.
    Date,
    /// A list of text.
    List,
    /// A map from text to text.
    Map,
    /// A PEM block (RFC 7468).
    Pem,
    /// A JSON text (RFC 8259), which files with levels hold as what it says.
    Json,
    /// The rows of a lookup table: maps from column to text, by key. No field is declared so.
    Table,
}

/// All types with their names in contracts.
const NAMES: [(Type, &str); 16] = [
    (Type::Text, "text"),
    (Type::Integer, "integer"),
    (Type::Number, "number"),
    (Type::Boolean, "boolean"),
    (Type::Url, "url"),
    (Type::Host, "host"),
    (Type::Port, "port"),
    (Type::Path, "path"),
    (Type::Duration, "duration"),
    (Type::Size, "size"),
    (Type::Date, "date"),
    (Type::List, "list"),
    (Type::Map, "map"),
    (Type::Pem, "pem"),
    (Type::Json, "json"),
    (Type::Table, "table"),
];

impl Type {
    /// The type with this name, if a field can be declared so.
    pub fn by_name(name: &str) -> Option<Self> {
        declarable().find(|(_, known)| *known == name).map(|(this, _)| this)
    }

    /// The names of all types that a field can be declared with.
    pub fn names() -> impl Iterator<Item = &'static str> {
        declarable().map(|(_, name)| name)
    }

    /// The name in contracts.
    pub fn name(self) -> &'static str {
        NAMES.iter().find(|(this, _)| *this == self).map_or("text", |&(_, name)| name)
    }

    /// What a value of this type looks like, for messages.
    pub fn describe(self) -> &'static str {
        match self {
            Type::Text => "text in quotes",
            Type::Integer => "a whole number without quotes",
            Type::Number => "a number without quotes",
            Type::Boolean => "true or false without quotes",
            Type::Url => "a URL with its scheme, like \"https://host/path\"",
            Type::Host => "a host name or an IP address, in quotes",
            Type::Port => "a port from 1 to 65535 without quotes",
            Type::Path => "a path in quotes",
            Type::Duration => "a duration like \"250ms\", \"30s\" or \"1h30m\"",
            Type::Size => "a size like \"64MiB\" or \"10GB\"",
            Type::Date => "a date like 2027-01-31",
            Type::List => "a list of texts, like [\"a\", \"b\"]",
            Type::Map => "a map of texts, like { a = \"x\" }",
            Type::Pem => "a PEM block: -----BEGIN …----- to -----END …-----",
            Type::Json => "JSON in quotes, like '[1, null]'",
            Type::Table => "a CSV file's path, or a table of rows by their keys",
        }
    }

    /// The same for whoever types a value by itself, where nothing is quoted.
    pub fn typed(self) -> &'static str {
        let said = self.describe();
        [" without quotes", ", in quotes", " in quotes"]
            .iter()
            .find_map(|end| said.strip_suffix(end))
            .unwrap_or(said)
    }

    /// Whether values of this type are written as text in a ledger.
    pub fn is_written_as_text(self) -> bool {
        !matches!(
            self,
            Type::Integer | Type::Number | Type::Boolean | Type::Port | Type::List | Type::Map | Type::Table
        )
    }

    /// Whether a value, all references in it expanded, is of this type.
    pub fn fits(self, value: &Value) -> bool {
        let text_that = |test: fn(&str) -> bool| value.as_text().is_some_and(test);
        match self {
            Type::Text => value.as_text().is_some(),
            Type::Path => text_that(is_path),
            Type::Integer => matches!(value, Value::Integer(_)),
            Type::Number => match value {
                Value::Integer(_) => true,
                Value::Number(number) => number.is_finite(),
                _ => false,
            },
            Type::Boolean => matches!(value, Value::Boolean(_)),
            Type::Url => text_that(is_url),
            Type::Host => text_that(is_host),
            Type::Port => matches!(value, Value::Integer(1..=65535)),
            Type::Duration => text_that(|text| measure::duration_ms(text).is_some()),
            Type::Size => text_that(|text| measure::size_bytes(text).is_some()),
            Type::Date => matches!(value, Value::Date(_)) || text_that(|t| parse_date(t).is_some()),
            Type::List => match value {
                Value::List(items) => items.iter().all(|item| item.as_text().is_some()),
                _ => false,
            },
            Type::Map => match value {
                Value::Map(map) => map.values().all(|item| item.as_text().is_some()),
                _ => false,
            },
            Type::Pem => text_that(is_pem),
            Type::Json => text_that(|text| Json::parse(text).is_ok()),
            Type::Table => match value {
                Value::Map(rows) => rows.values().all(|row| Type::Map.fits(row)),
                _ => false,
            },
        }
    }

    /// Whether a text is of this type whatever names stand for its references. It is said of no text for which that
    /// hangs on the names.
    pub fn fits_with_names(self, text: &str) -> bool {
        let literals = || {
            pieces(text).filter_map(|piece| match piece {
                Piece::Literal(literal) => Some(literal),
                Piece::Reference(_) | Piece::Unclosed(_) => None,
            })
        };
        match self {
            Type::Text => true,
            Type::Path => literals().all(is_path),
            Type::Url => {
                let begins_as_url =
                    matches!(pieces(text).next(), Some(Piece::Literal(start)) if is_url(start));
                begins_as_url && literals().all(may_be_in_url)
            }
            _ => false,
        }
    }

    /// Whether a value could be of this type once its references are expanded: the form is right
    /// and only the text is still open.
    pub fn may_fit(self, value: &Value) -> bool {
        match (self, value) {
            // One reference and nothing else has the type of what it refers to.
            (Type::List | Type::Map, Value::Text(text)) => crate::reference::lone(text).is_some(),
            (Type::List | Type::Map | Type::Table, _) => self.fits(value),
            (_, Value::Text(_)) => true,
            _ => false,
        }
    }

    /// Reads text that came from outside the ledger (an environment variable, a file, the command
    /// line) as this type; `None` if it cannot be.
    pub fn read(self, text: &str) -> Option<Value> {
        let value = match self {
            Type::Integer | Type::Port => Value::Integer(text.parse().ok()?),
            Type::Number => match text.parse() {
                Ok(integer) => Value::Integer(integer),
                Err(_) => Value::Number(text.parse().ok()?),
            },
            Type::Boolean => Value::Boolean(text.parse().ok()?),
            Type::List | Type::Map | Type::Table => return None,
            _ => Value::text(text),
        };
        self.fits(&value).then_some(value)
    }
}

fn declarable() -> impl Iterator<Item = (Type, &'static str)> {
    NAMES.iter().copied().filter(|(this, _)| *this != Type::Table)
}

/// A duration (`250ms`, `1h30m`) as a length of time, if the text is one.
pub fn duration(text: &str) -> Option<std::time::Duration> {
    let milliseconds = measure::duration_ms(text)?;
    u64::try_from(milliseconds).ok().map(std::time::Duration::from_millis)
}

/// A day written as `YYYY-MM-DD` (ISO 8601, extended form).
pub fn parse_date(text: &str) -> Option<Date> {
    let shape =
        |(at, byte): (usize, u8)| if at == 4 || at == 7 { byte == b'-' } else { byte.is_ascii_digit() };
    if text.len() != 10 || !text.bytes().enumerate().all(shape) {
        return None;
    }
    text.parse().ok()
}

fn is_path(text: &str) -> bool {
    !text.contains('\0')
}

fn is_url(text: &str) -> bool {
    // There is no colon in a scheme.
    let Some((scheme, rest)) = text.split_once(':') else { return false };
    let Some(rest) = rest.strip_prefix("//") else { return false };
    scheme.starts_with(|c: char| c.is_ascii_alphabetic())
        && scheme.bytes().all(|c| c.is_ascii_alphanumeric() || b"+-.".contains(&c))
        && !rest.is_empty()
        && may_be_in_url(rest)
}

fn may_be_in_url(text: &str) -> bool {
    let is_plain = text.bytes().all(|byte| byte.is_ascii_graphic());
    is_plain || !text.contains(|c: char| c.is_whitespace() || c.is_control())
}

fn is_host(text: &str) -> bool {
    if text.parse::<IpAddr>().is_ok() {
        return true;
    }
    let name = text.strip_suffix('.').unwrap_or(text);
    let label = |label: &str| {
        (1..=63).contains(&label.len())
            && label.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_')
            && !label.starts_with('-')
            && !label.ends_with('-')
    };
    // A name of digits alone would be taken for an address by those who connect to it.
    let digits_only = name.bytes().all(|b| b.is_ascii_digit() || b == b'.');
    name.len() <= 253 && !digits_only && name.split('.').all(label)
}

fn is_pem(text: &str) -> bool {
    let text = text.trim();
    let Some((label, rest)) = text.strip_prefix("-----BEGIN ").and_then(|t| t.split_once("-----")) else {
        return false;
    };
    rest.contains(&format!("-----END {label}-----")) && text.ends_with("-----")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_fits_with_names_is_told_where_names_cannot_spoil_it() {
        for (this, text, fits) in [
            (Type::Text, "${stage.name}", true),
            (Type::Url, "https://gw.${stage.name}.example/${unit.name}", true),
            (Type::Url, "https://${stage.name}.example", false),
            (Type::Url, "${stage.name}://gw.example", false),
            (Type::Url, "https://gw.${stage.name} .example", false),
            (Type::Path, "/var/${unit.name}", true),
            (Type::Host, "gw.${stage.name}.example", false),
            (Type::Duration, "${unit.name}s", false),
        ] {
            assert_eq!(this.fits_with_names(text), fits, "{} {text}", this.name());
        }
    }

    proptest! {
        #[test]
        fn what_fits_with_names_fits_with_each(
            text in prop::collection::vec(
                prop::sample::select(vec!["${stage.name}", "https://", "gw", "/", " ", "\0", ":", "$${", "1s"]), 0..6),
            name in prop::sample::select(vec!["", "a", "0", "a-", "dev_1"]),
        ) {
            let (text, value) = (text.concat(), text.concat().replace("${stage.name}", name));
            for this in [Type::Text, Type::Path, Type::Url, Type::Host, Type::Duration, Type::Json, Type::Date] {
                prop_assert!(!this.fits_with_names(&text) || this.fits(&Value::text(&value)), "{} {text}", this.name());
            }
        }
    }

    #[test]
    fn each_type_takes_its_own_and_nothing_else() {
        let t = Value::text;
        let yes: Vec<(Type, Value)> = vec![
            (Type::Text, t("")),
            (Type::Integer, Value::Integer(-3)),
            (Type::Number, Value::Integer(3)),
            (Type::Number, Value::Number(0.5)),
            (Type::Boolean, Value::Boolean(false)),
            (Type::Url, t("https://tide.example/api")),
            (Type::Url, t("amqp+tls://h:1")),
            (Type::Host, t("db.test.brackwater.example")),
            (Type::Host, t("10.0.0.7")),
            (Type::Host, t("2001:db8::1")),
            (Type::Host, t("quay_1")),
            (Type::Port, Value::Integer(65535)),
            (Type::Path, t("/var/lib/tides")),
            (Type::Duration, t("1h30m")),
            (Type::Duration, t("250ms")),
            (Type::Size, t("64MiB")),
            (Type::Date, t("2027-01-31")),
            (Type::Date, Value::Date(jiff::civil::date(2027, 1, 31))),
            (Type::List, Value::List(vec![t("a")])),
            (Type::List, Value::List(vec![])),
            (Type::Map, Value::Map([("a".into(), t("x"))].into())),
            (Type::Pem, t("-----BEGIN X-----\nAA==\n-----END X-----\n")),
            (Type::Json, t("[1, null, {\"a\": 0.10}]")),
            (Type::Json, t("\"x\"")),
        ];
        for (this, value) in yes {
            assert!(this.fits(&value), "{} takes {}", this.name(), value.to_text());
        }
        let no: Vec<(Type, Value)> = vec![
            (Type::Text, Value::Integer(1)),
            (Type::Integer, t("1")),
            (Type::Integer, Value::Number(1.0)),
            (Type::Number, Value::Number(f64::NAN)),
            (Type::Number, t("1.5")),
            (Type::Boolean, t("true")),
            (Type::Url, t("tide.example/api")),
            (Type::Url, t("https://")),
            (Type::Url, t("https://a b")),
            (Type::Url, t("1s://a")),
            (Type::Host, t("")),
            (Type::Host, t("a..b")),
            (Type::Host, t("-a.example")),
            (Type::Host, t("https://a")),
            (Type::Host, t("300.1.1.1")),
            (Type::Port, Value::Integer(0)),
            (Type::Port, t("80")),
            (Type::Duration, t("5 m")),
            (Type::Duration, t("m")),
            (Type::Duration, t("5")),
            (Type::Duration, t("5w")),
            (Type::Size, t("64")),
            (Type::Size, t("1.5GB")),
            (Type::Date, t("2027-02-30")),
            (Type::Date, t("27-02-03")),
            (Type::Date, Value::Time("07:00:00".into())),
            (Type::List, Value::List(vec![Value::Integer(1)])),
            (Type::List, t("a,b")),
            (Type::Map, Value::Map([("a".into(), Value::Boolean(true))].into())),
            (Type::Pem, t("-----BEGIN X-----\nAA==\n-----END Y-----")),
            (Type::Json, t("x")),
            (Type::Json, Value::Integer(1)),
        ];
        for (this, value) in no {
            assert!(!this.fits(&value), "{} refuses {}", this.name(), value.to_text());
        }
    }

    #[test]
    fn text_from_outside_is_read_as_the_type() {
        for (this, text, read) in [
            (Type::Integer, "12", Some(Value::Integer(12))),
            (Type::Port, "70000", None),
            (Type::Number, "1.5", Some(Value::Number(1.5))),
            (Type::Number, "inf", None),
            (Type::Boolean, "true", Some(Value::Boolean(true))),
            (Type::Boolean, "yes", None),
            (Type::Text, "${x}", Some(Value::text("${x}"))),
            (Type::Duration, "soon", None),
            (Type::List, "a", None),
        ] {
            assert_eq!(this.read(text), read, "{} from {text}", this.name());
        }
    }

    #[test]
    fn every_type_is_found_by_its_name() {
        for name in Type::names() {
            assert_eq!(Type::by_name(name).map(Type::name), Some(name));
        }
        assert_eq!(Type::by_name("string"), None);
    }
}
