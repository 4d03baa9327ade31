//! YAML 1.2. All text is quoted, so that readers of YAML 1.1 take `no`, `12:30:45` or `0123` as
//! text too.

use cledger_core::json::{Json, Plainly};
use serde_saphyr::Spanned;

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
        write(&Plainly(&order.json(&mut Vec::new(), &tree.0)))
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        Found::of_root(read(start(text)?)?)
    }
}

/// The text of a document with every text in it quoted.
pub(crate) fn write(document: &impl serde::Serialize) -> Result<String, WriteError> {
    let options = serde_saphyr::ser_options! {
        prefer_block_scalars: false,
        quote_all: true,
    };
    serde_saphyr::to_string_with_options(document, options)
        .map_err(|error| WriteError { name: String::new(), reason: error.to_string() })
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
