//! Trees of names and values, to and from the files that programs read.
//!
//! One file a format, behind one trait, [`Format`]. What is written here is read back here as the
//! same tree, and by the format's usual readers as the same values.

mod csv;
mod dotenv;
mod json;
mod properties;
mod tree;
mod yaml;

use cledger_core::model::{OutputFormat, OutputTable};
pub use cledger_core::tree::{Branch, Tree};

/// A tree cannot be written in a format.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{name}` {reason}")]
pub struct WriteError {
    /// The name of the value, its steps joined with dots.
    pub name: String,
    /// What about it the format cannot hold. Never the value itself.
    pub reason: String,
}

/// A text is not of a format.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {reason}")]
pub struct ReadError {
    /// The line, from 1.
    pub line: usize,
    /// What is wrong there. Never a value of the text.
    pub reason: String,
}

/// A form of files that hold names and values.
pub trait Format: Sync {
    /// Whether files of this form know text only, and names of one step.
    fn is_flat(&self) -> bool;
    /// The file's text for a tree.
    fn write(&self, tree: &Tree) -> Result<String, WriteError>;
    /// The tree of a file's text.
    fn read(&self, text: &str) -> Result<Tree, ReadError>;
}

/// The format with this name in contracts; `table` is the lookup table that a CSV file holds.
pub fn format(format: OutputFormat, table: Option<&OutputTable>) -> Box<dyn Format + '_> {
    match format {
        OutputFormat::Dotenv => Box::new(dotenv::Dotenv),
        OutputFormat::Json => Box::new(json::Json),
        OutputFormat::Yaml => Box::new(yaml::Yaml),
        OutputFormat::Properties => Box::new(properties::Properties),
        OutputFormat::Csv => Box::new(csv::Csv { table }),
    }
}
