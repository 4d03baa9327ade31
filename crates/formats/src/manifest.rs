//! Kubernetes manifests (API version v1): a `ConfigMap` with its texts, or a `Secret` with them in
//! base64 (RFC 4648 section 4).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use cledger_core::value::Value;
use serde_json::json;

use crate::found::Node;
use crate::{Format, Found, ReadError, Tree, WriteError, start, yaml};

pub(crate) struct Manifest<'m> {
    /// Whether it is a `Secret`.
    pub(crate) encoded: bool,
    /// Its name.
    pub(crate) name: &'m str,
}

impl Manifest<'_> {
    fn kind(&self) -> &'static str {
        if self.encoded { "Secret" } else { "ConfigMap" }
    }
}

impl Format for Manifest<'_> {
    fn write(&self, tree: &Tree) -> Result<String, WriteError> {
        if !is_subdomain(self.name) {
            let reason = format!("cannot be `{}`: a-z, 0-9, `-` and `.` make such a name", self.name);
            return Err(WriteError { name: "metadata.name".to_owned(), reason });
        }
        let mut data = serde_json::Map::new();
        for (name, value) in &tree.0 {
            if !is_key(name) {
                let reason = "is no key of a manifest: letters, digits, `-`, `_` and `.` make one".to_owned();
                return Err(WriteError { name: name.to_string(), reason });
            }
            let text = value.to_text();
            let text = if self.encoded { STANDARD.encode(text.as_bytes()) } else { text.to_string() };
            data.insert(name.to_string(), text.into());
        }
        let mut manifest = json!({
            "apiVersion": "v1", "kind": self.kind(), "metadata": { "name": self.name }, "data": data,
        });
        if self.encoded {
            manifest["type"] = "Opaque".into();
        }
        yaml::write(&manifest)
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        let Node::Level(top) = yaml::read(start(text)?)? else { return Err(self.is_none(1)) };
        let mut found = Found::default();
        let mut kind = None;
        for (name, line, node) in top {
            match (name.as_str(), node) {
                ("metadata", Node::Level(about)) => {
                    found.manifest_name = about.into_iter().find_map(|(name, _, node)| match node {
                        Node::Value(Value::Text(said)) if name == "name" => Some(said.to_string()),
                        _ => None,
                    });
                }
                ("kind", Node::Value(Value::Text(said))) => kind = Some((said, line)),
                ("data", Node::Level(data)) => add(&mut found, data, self.encoded)?,
                ("stringData", Node::Level(data)) if self.encoded => add(&mut found, data, false)?,
                ("binaryData", Node::Level(data)) if !data.is_empty() => {
                    let reason = "bytes that are no text (`binaryData`) are not read".to_owned();
                    return Err(ReadError { line, reason });
                }
                _ => {}
            }
        }
        match kind {
            Some((kind, _)) if kind == self.kind() => Ok(found),
            Some((_, line)) => Err(self.is_none(line)),
            None => Err(self.is_none(1)),
        }
    }
}

impl Manifest<'_> {
    fn is_none(&self, line: usize) -> ReadError {
        ReadError { line, reason: format!("this is no manifest of the kind {}", self.kind()) }
    }
}

fn add(found: &mut Found, data: Vec<(String, usize, Node)>, encoded: bool) -> Result<(), ReadError> {
    for (name, line, node) in data {
        let wrong = |reason: String| ReadError { line, reason };
        let Node::Value(Value::Text(text)) = node else {
            return Err(wrong(format!("`{name}` must be text")));
        };
        let value = if encoded {
            let bytes = STANDARD.decode(text.as_bytes()).ok();
            let decoded = bytes.and_then(|bytes| String::from_utf8(bytes).ok());
            Value::text(&decoded.ok_or_else(|| wrong(format!("`{name}` is no text in base64")))?)
        } else {
            Value::Text(text)
        };
        found.add(&name, value, line)?;
    }
    Ok(())
}

/// Whether it can be the name of an object (a DNS subdomain, RFC 1123).
fn is_subdomain(name: &str) -> bool {
    let letter = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit();
    let label = |label: &str| {
        let bytes = label.as_bytes();
        bytes.first().is_some_and(|&b| letter(b))
            && bytes.last().is_some_and(|&b| letter(b))
            && bytes.iter().all(|&b| letter(b) || b == b'-')
    };
    name.len() <= 253 && name.split('.').all(label)
}

fn is_key(name: &str) -> bool {
    (1..=253).contains(&name.len())
        && name != "."
        && name != ".."
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_' | b'.'))
}
