//! Trees of names and values, to and from the files that programs read.
//!
//! One file a format, behind one trait, [`Format`]. What is written here is read back here as the
//! same tree, and by the format's usual readers as the same values; a value that one of them would
//! get otherwise is refused. [`template`] makes files of any other form.

mod assignments;
mod comments;
mod csv;
mod detect;
mod dotenv;
mod env_plain;
mod found;
mod ini;
mod json;
mod manifest;
mod node;
mod properties;
mod rendered;
mod shell;
mod stretches;
pub mod template;
mod toml;
mod xml;
mod yaml;

use cledger_core::model::{OutputFormat, OutputTable};
pub use cledger_core::tree::{Branch, Order, Tree};
pub use comments::{annotate, comments_of, with_header};
pub use detect::detect;
pub use found::Found;
pub use rendered::{OutputText, RenderError, particulars, text_of};
pub use stretches::{Artifact, stretches};
pub use xml::ELEMENT;

/// The largest file that is read, in bytes.
pub const LARGEST: usize = 16 * 1024 * 1024;

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
    /// The file's text for a tree, by name.
    fn write(&self, tree: &Tree) -> Result<String, WriteError> {
        self.write_in(&Order::default(), tree)
    }
    /// The same in another order.
    fn write_in(&self, order: &Order, tree: &Tree) -> Result<String, WriteError>;
    /// What is in a file's text.
    fn read(&self, text: &str) -> Result<Found, ReadError>;
}

/// What some formats need to know beside the values.
#[derive(Debug, Clone, Copy, Default)]
pub struct Particulars<'p> {
    /// The lookup table that a CSV file holds.
    pub table: Option<&'p OutputTable>,
    /// The name of a manifest.
    pub manifest_name: &'p str,
    /// In which order names stand; by name if not given.
    pub order: Option<&'p Order>,
}

impl Particulars<'_> {
    /// The text of a tree in a format, in the order that is asked for.
    pub fn write(&self, format: &dyn Format, tree: &Tree) -> Result<String, WriteError> {
        match self.order {
            Some(order) => format.write_in(order, tree),
            None => format.write(tree),
        }
    }
}

/// The format with this name in contracts; `None` for what templates make, which has none.
pub fn format(format: OutputFormat, particulars: Particulars<'_>) -> Option<Box<dyn Format + '_>> {
    let Particulars { table, manifest_name, .. } = particulars;
    Some(match format {
        OutputFormat::Dotenv => Box::new(dotenv::Dotenv),
        OutputFormat::EnvPlain => Box::new(env_plain::EnvPlain),
        OutputFormat::Shell => Box::new(shell::Shell),
        OutputFormat::Properties => Box::new(properties::Properties),
        OutputFormat::Json => Box::new(json::Json),
        OutputFormat::Yaml => Box::new(yaml::Yaml),
        OutputFormat::Toml => Box::new(toml::Toml),
        OutputFormat::Ini => Box::new(ini::Ini),
        OutputFormat::Xml => Box::new(xml::Xml),
        OutputFormat::K8sConfig => Box::new(manifest::Manifest { encoded: false, name: manifest_name }),
        OutputFormat::K8sSecret => Box::new(manifest::Manifest { encoded: true, name: manifest_name }),
        OutputFormat::Csv => Box::new(csv::Csv { table }),
        OutputFormat::Template => return None,
    })
}

/// Refuses what is too large to be a file of names and values, and drops a byte-order mark.
fn start(text: &str) -> Result<&str, ReadError> {
    if text.len() > LARGEST {
        let reason = format!("it is larger than {} MiB, which no such file is", LARGEST >> 20);
        return Err(ReadError { line: 1, reason });
    }
    Ok(text.strip_prefix('\u{feff}').unwrap_or(text))
}
