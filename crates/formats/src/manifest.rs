//! Kubernetes manifests (API version v1): a `ConfigMap` with its texts, or a `Secret` with them in
//! base64 (RFC 4648 section 4).
//!
//! What stands beside the data (a namespace, labels, `immutable`, `type` …) has names whose first step begins with
//! `/`, which that of no datum can. In a file of several documents each is a level, called `KIND/NAME`.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use cledger_core::json::Json;
use cledger_core::model::OutputFormat;
use cledger_core::tree::Branch;
use cledger_core::value::Value;
use compact_str::CompactString;

use crate::found::Node;
use crate::{Format, Found, Order, ReadError, Tree, WriteError, start, yaml};

/// What a secret's `type` is where nothing is said.
const OPAQUE: &str = "Opaque";

/// What stands first in `metadata`, behind the name.
const METADATA: [&str; 3] = ["namespace", "labels", "annotations"];

pub(crate) struct Manifest<'m> {
    /// Whether it is a `Secret`.
    pub(crate) encoded: bool,
    /// Its name.
    pub(crate) name: &'m str,
}

fn kind(encoded: bool) -> &'static str {
    let format = if encoded { OutputFormat::K8sSecret } else { OutputFormat::K8sConfig };
    format.manifest_kind().unwrap_or_default()
}

impl Format for Manifest<'_> {
    fn write_in(&self, order: &Order, tree: &Tree) -> Result<String, WriteError> {
        let is_document = |(id, value): (&CompactString, &Value)| {
            matches!(value, Value::Map(_)) && id.split_once('/').is_some_and(|(kind, _)| !kind.is_empty())
        };
        if tree.0.is_empty() || !tree.0.iter().all(is_document) {
            return document((order, &[]), (self.encoded, self.name), &tree.0);
        }
        let mut documents = Vec::new();
        for (id, value) in order.sorted(&[], &tree.0) {
            let (Some((this, name)), Value::Map(branch)) = (id.split_once('/'), value) else { continue };
            documents.push(document((order, &[id]), (this == kind(true), name), branch)?);
        }
        Ok(documents.join("---\n"))
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        let mut documents = yaml::documents(start(text)?)?.into_iter();
        match (documents.next(), documents.len()) {
            (None, _) => Err(self.is_none(1)),
            (Some(only), 0) => match read(only)? {
                (true, found) if self.encoded => Ok(found),
                (false, found) if !self.encoded => Ok(found),
                (_, found) => Err(self.is_none(found.lines.values().min().copied().unwrap_or(1))),
            },
            (Some(first), _) => several([first].into_iter().chain(documents)),
        }
    }
}

impl Manifest<'_> {
    fn is_none(&self, line: usize) -> ReadError {
        ReadError { line, reason: format!("this is no manifest of the kind {}", kind(self.encoded)) }
    }
}

/// The text of one manifest.
fn document(
    (order, steps): (&Order, &[&str]),
    (encoded, name): (bool, &str),
    branch: &Branch,
) -> Result<String, WriteError> {
    if !is_subdomain(name) {
        let reason = format!("cannot be `{name}`: a-z, 0-9, `-` and `.` make such a name");
        return Err(WriteError { name: "metadata.name".to_owned(), reason });
    }
    let text = |text: &str| Json::Text(text.into());
    let mut metadata = vec![("name".into(), text(name))];
    let mut top = vec![("apiVersion".into(), text("v1")), ("kind".into(), text(kind(encoded)))];
    let mut beside = Vec::new();
    let mut data = Vec::new();
    for (name, value) in order.sorted(steps, branch) {
        match (name.strip_prefix('/'), value) {
            (Some("metadata"), Value::Map(about)) => {
                let rank =
                    |name: &str| METADATA.iter().position(|known| *known == name).unwrap_or(METADATA.len());
                let mut about: Vec<_> =
                    about.iter().map(|(name, it)| (name.clone(), Json::of_value(it))).collect();
                about.sort_by_key(|(name, _)| rank(name));
                metadata.extend(about);
            }
            (Some(beside_it), value) => beside.push((beside_it.into(), Json::of_value(value))),
            (None, _) if !is_key(name) => {
                let reason = "is no key of a manifest: letters, digits, `-`, `_` and `.` make one".to_owned();
                return Err(WriteError { name: name.to_string(), reason });
            }
            (None, value) => {
                let value = value.to_text();
                let value = if encoded { STANDARD.encode(value.as_bytes()).into() } else { value };
                data.push((name.clone(), Json::Text(value)));
            }
        }
    }
    if encoded && !beside.iter().any(|(name, _): &(CompactString, Json)| name == "type") {
        beside.insert(0, ("type".into(), text(OPAQUE)));
    }
    top.push(("metadata".into(), Json::Object(metadata)));
    top.extend(beside);
    top.push(("data".into(), Json::Object(data)));
    yaml::write(&Json::Object(top))
}

/// Several manifests in one file.
fn several(documents: impl Iterator<Item = Node>) -> Result<Found, ReadError> {
    let mut all = Found::default();
    for document in documents {
        let (encoded, found) = read(document)?;
        let line = found.lines.values().min().copied().unwrap_or(1);
        let Some(name) = found.manifest_name else {
            let reason = "of several documents, each needs a name (`metadata.name`)".to_owned();
            return Err(ReadError { line, reason });
        };
        let id = format!("{}/{name}", kind(encoded));
        for (steps, line) in found.lines {
            all.lines.insert([vec![id.clone()], steps].concat(), line);
        }
        if all.tree.0.insert(id.as_str().into(), Value::Map(found.tree.0)).is_some() {
            return Err(crate::found::twice(&id, line));
        }
    }
    Ok(all)
}

/// What is in one document, and whether it is a `Secret`.
fn read(document: Node) -> Result<(bool, Found), ReadError> {
    let no_manifest =
        |line| ReadError { line, reason: "this is no manifest of a ConfigMap or Secret".to_owned() };
    let Node::Level(top) = document else { return Err(no_manifest(1)) };
    let said = top.iter().find_map(|(name, line, node)| match node {
        Node::Value(Value::Text(said)) if name == "kind" => Some((said.as_str(), *line)),
        _ => None,
    });
    let encoded = match said {
        Some(("ConfigMap", _)) => false,
        Some(("Secret", _)) => true,
        other => return Err(no_manifest(other.map_or(1, |(_, line)| line))),
    };
    let mut found = Found::default();
    for (name, line, node) in top {
        match (name.as_str(), node) {
            ("kind" | "apiVersion", _) | ("data" | "stringData" | "metadata", Node::Null) => {}
            ("metadata", Node::Level(about)) => metadata(&mut found, about)?,
            ("data", Node::Level(data)) => add(&mut found, data, encoded)?,
            ("stringData", Node::Level(data)) if encoded => add(&mut found, data, false)?,
            ("binaryData", Node::Level(data)) if data.is_empty() => {}
            ("binaryData", _) => {
                let reason = "bytes that are no text (`binaryData`) are not read".to_owned();
                return Err(ReadError { line, reason });
            }
            ("type", Node::Value(Value::Text(said))) if encoded && said == OPAQUE => {}
            (_, node) => found.add(&format!("/{name}"), node.into_json().into_value(), line)?,
        }
    }
    Ok((encoded, found))
}

/// The name of a manifest, and what else is said about it.
fn metadata(found: &mut Found, about: Vec<(String, usize, Node)>) -> Result<(), ReadError> {
    for (name, line, node) in about {
        match node {
            Node::Value(Value::Text(said)) if name == "name" => found.manifest_name = Some(said.to_string()),
            node => found.add_below("/metadata", &name, node.into_json().into_value(), line)?,
        }
    }
    Ok(())
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
