//! JSON (RFC 8259), indented by two, names in order.

use crate::tree::ReadTree;
use crate::{Format, ReadError, Tree, WriteError};
use cledger_core::value::Value;

pub(crate) struct Json;

impl Format for Json {
    fn is_flat(&self) -> bool {
        false
    }

    fn write(&self, tree: &Tree) -> Result<String, WriteError> {
        let json = Value::Map(tree.0.clone()).to_json();
        let mut text = serde_json::to_string_pretty(&json)
            .map_err(|error| WriteError { name: String::new(), reason: error.to_string() })?;
        text.push('\n');
        Ok(text)
    }

    fn read(&self, text: &str) -> Result<Tree, ReadError> {
        let text = text.trim_start_matches('\u{feff}');
        serde_json::from_str(text).map(|ReadTree(tree)| tree).map_err(|error| {
            let whole = error.to_string();
            let reason = whole.split(" at line ").next().unwrap_or(&whole).to_owned();
            ReadError { line: error.line().max(1), reason }
        })
    }
}
