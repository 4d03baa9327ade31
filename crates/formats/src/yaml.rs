//! YAML 1.2. All text is quoted, so that readers of YAML 1.1 take `no`, `12:30:45` or `0123` as
//! text too.

use crate::tree::ReadTree;
use crate::{Format, ReadError, Tree, WriteError};
use cledger_core::value::Value;

pub(crate) struct Yaml;

impl Format for Yaml {
    fn is_flat(&self) -> bool {
        false
    }

    fn write(&self, tree: &Tree) -> Result<String, WriteError> {
        let options = serde_saphyr::ser_options! {
            prefer_block_scalars: false,
            quote_all: true,
        };
        serde_saphyr::to_string_with_options(&Value::Map(tree.0.clone()).to_json(), options)
            .map_err(|error| WriteError { name: String::new(), reason: error.to_string() })
    }

    fn read(&self, text: &str) -> Result<Tree, ReadError> {
        let options = serde_saphyr::options! {
            strict_booleans: true,
            leading_zero_numbers_as_strings: true,
            underscored_numbers_as_strings: true,
            with_snippet: false,
        };
        if text.trim().is_empty() {
            return Ok(Tree::default());
        }
        let read = serde_saphyr::from_str_with_options(text, options);
        read.map(|ReadTree(tree)| tree).map_err(|error| {
            let line = error.location().map_or(1, |location| location.line());
            ReadError { line: usize::try_from(line).unwrap_or(1), reason: error.to_string() }
        })
    }
}
