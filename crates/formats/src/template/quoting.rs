//! The filters of templates: a value as a program that reads it wants it quoted.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use cledger_core::uri::ENCODED;
use minijinja::value::{Value, ValueKind};
use minijinja::{Environment, Error, ErrorKind};
use percent_encoding::utf8_percent_encode;

use crate::{properties, shell, xml};

type Quote = fn(&str) -> Result<String, &'static str>;

/// The filters by name: of texts, which other values are turned into.
const FILTERS: [(&str, Quote); 9] = [
    ("shell", |text| without_nul(text).map(shell::quoted)),
    ("toml", |text| Ok(toml::Value::String(text.to_owned()).to_string())),
    ("xml", |text| Ok(xml::escaped(text, true))),
    ("properties", |text| Ok(properties::escaped(text))),
    ("percent", |text| Ok(utf8_percent_encode(text, ENCODED).to_string())),
    ("sql", |text| without_nul(text).map(|text| format!("'{}'", text.replace('\'', "''")))),
    ("systemd", systemd),
    ("base64", |text| Ok(STANDARD.encode(text))),
    ("one_line", |text| {
        if text.contains(['\n', '\r']) { Err("it has more than one line") } else { Ok(text.to_owned()) }
    }),
];

pub(super) fn names() -> String {
    let mut names: Vec<&str> = FILTERS.iter().map(|(name, _)| *name).chain(["json", "yaml"]).collect();
    names.sort_unstable();
    names.join(", ")
}

pub(super) fn add_to(environment: &mut Environment<'_>) {
    for (name, quote) in FILTERS {
        environment.add_filter(name, move |value: Value| -> Result<String, Error> {
            let wrong = |reason| Error::new(ErrorKind::BadSerialization, reason);
            quote(&text_of(&value).ok_or_else(|| wrong("a list or map has no text form here"))?)
                .map_err(wrong)
        });
    }
    // JSON is YAML 1.2, and quoted texts are texts for readers of YAML 1.1 too.
    for name in ["json", "yaml"] {
        environment.add_filter(name, |value: Value| -> Result<String, Error> {
            serde_json::to_string(&value).map_err(|_| Error::new(ErrorKind::BadSerialization, "not for JSON"))
        });
    }
}

/// The text form of a value that is none of several.
fn text_of(value: &Value) -> Option<String> {
    match value.kind() {
        ValueKind::Undefined | ValueKind::None | ValueKind::Map | ValueKind::Seq | ValueKind::Iterable => {
            None
        }
        _ => Some(value.to_string()),
    }
}

fn without_nul(text: &str) -> Result<&str, &'static str> {
    if text.contains('\0') { Err("it has a NUL, which cannot be quoted") } else { Ok(text) }
}

/// As one word of a systemd unit file (systemd.syntax(7)): quoted, with specifiers and variables as
/// plain text.
fn systemd(text: &str) -> Result<String, &'static str> {
    let mut quoted = String::from("\"");
    for c in without_nul(text)?.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            '\n' => quoted.push_str("\\n"),
            '\r' => quoted.push_str("\\r"),
            '\t' => quoted.push_str("\\t"),
            '%' | '$' => quoted.extend([c, c]),
            _ => quoted.push(c),
        }
    }
    quoted.push('"');
    Ok(quoted)
}
