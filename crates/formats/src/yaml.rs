//! YAML 1.2. Text is quoted where readers of YAML 1.1 or 1.2 would take it for something else, such as `no`, `12:30:45`
//! or `0123`; lines of text stand in a block.

use cledger_core::json::{Json, Plainly};
use serde::{Serialize, Serializer};
use serde_saphyr::{LitStr, Spanned};

use crate::found::Node;
use crate::node::ReadNode;
use crate::{Format, Found, Order, ReadError, Tree, WriteError, start};

pub(crate) struct Yaml;

impl Format for Yaml {
    fn write_in(&self, order: &Order, tree: &Tree) -> Result<String, WriteError> {
        for (steps, value) in tree.leaves() {
            if Json::of_value(value).inexact().is_some() {
                let reason = "has a number of more digits than readers of YAML keep".to_owned();
                return Err(WriteError { name: steps.join("."), reason });
            }
        }
        write(&order.json(&mut Vec::new(), &tree.0))
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        Found::of_root(read(start(text)?)?)
    }
}

/// The text of a document.
pub(crate) fn write(document: &Json) -> Result<String, WriteError> {
    // Blocks are chosen here: what begins with a tab is one that other readers refuse.
    let options = serde_saphyr::ser_options! { prefer_block_scalars: false };
    serde_saphyr::to_string_with_options(&Written(document), options)
        .map_err(|error| WriteError { name: String::new(), reason: error.to_string() })
}

/// A part of a document as it is written.
struct Written<'j>(&'j Json);

impl Serialize for Written<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.0 {
            Json::Text(text) if is_block(text) => LitStr(text).serialize(serializer),
            Json::List(items) => serializer.collect_seq(items.iter().map(Written)),
            Json::Object(pairs) => {
                serializer.collect_map(pairs.iter().map(|(name, json)| (name.as_str(), Written(json))))
            }
            other => Plainly(other).serialize(serializer),
        }
    }
}

/// Whether a text is whole lines that every reader finds again in a block as they are.
fn is_block(text: &str) -> bool {
    let is_plain = |line: &str| {
        let is_edge = |c: Option<char>| c.is_some_and(char::is_whitespace);
        !is_edge(line.chars().next())
            && !is_edge(line.chars().next_back())
            && !line.contains(char::is_control)
    };
    let lines = text.strip_suffix('\n').filter(|lines| lines.contains('\n'));
    lines.is_some_and(|lines| lines.split('\n').all(|line| !line.is_empty() && is_plain(line)))
}

fn options() -> serde_saphyr::Options {
    serde_saphyr::options! {
        strict_booleans: true,
        leading_zero_numbers_as_strings: true,
        underscored_numbers_as_strings: true,
        with_snippet: false,
    }
}

fn no_yaml(error: &serde_saphyr::Error) -> ReadError {
    let line = error.location().map_or(1, |location| location.line());
    ReadError { line: usize::try_from(line).unwrap_or(1).max(1), reason: error.to_string() }
}

/// What is in a file of one document.
pub(crate) fn read(text: &str) -> Result<Node, ReadError> {
    if text.trim().is_empty() {
        return Ok(Node::Null);
    }
    let read = serde_saphyr::from_str_with_options(text, options());
    read.map(|ReadNode::<Spanned<String>>(node, _)| node).map_err(|error| no_yaml(&error))
}

/// What is in each document of a file, but for those with nothing in them.
pub(crate) fn documents(text: &str) -> Result<Vec<Node>, ReadError> {
    let read = serde_saphyr::from_multiple_with_options(text, options());
    let read: Vec<ReadNode<Spanned<String>>> = read.map_err(|error| no_yaml(&error))?;
    Ok(read.into_iter().map(|ReadNode(node, _)| node).collect())
}
