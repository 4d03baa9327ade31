//! JSON (RFC 8259), indented by two, names in order.

pub(crate) mod tokens;

use cledger_core::json;

use crate::{Format, Found, Order, ReadError, Tree, WriteError, start};

pub(crate) struct Json;

impl Format for Json {
    fn write_in(&self, order: &Order, tree: &Tree) -> Result<String, WriteError> {
        let mut text = serde_json::to_string_pretty(&order.json(&mut Vec::new(), &tree.0))
            .map_err(|error| WriteError { name: String::new(), reason: error.to_string() })?;
        text.push('\n');
        Ok(text)
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        let text = start(text)?;
        let json = json::Json::parse(text)
            .map_err(|error| ReadError { line: error.line.max(1), reason: error.reason })?;
        let tree = Found::of_root(json.into())?.tree;
        let mut found = Found { tree, ..Found::default() };
        let mut counted = (0, 1);
        for token in tokens::tokens(text) {
            let part = text.get(counted.0..token.range.start).unwrap_or_default();
            counted = (token.range.start, counted.1 + part.matches('\n').count());
            // What is inside of a list is no name of its own.
            if token.is_key || token.in_list {
                continue;
            }
            found.lines.insert(token.steps, counted.1);
        }
        Ok(found)
    }
}
