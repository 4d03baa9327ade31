//! One file, document or scope of rows, read as names and values as far as its form is known.

use std::collections::BTreeMap;

use cledger_core::kept::Kept;
use cledger_core::model::{Apart, OutletKind, OutputFormat};
use cledger_core::render::{RenderedOutput, value_of_row};
use cledger_core::tree::Tree;
use cledger_formats::{Particulars, format, particulars};
use zeroize::Zeroizing;

use crate::existing;

/// A text, and the names and values in it if its form is known and it is of that form.
#[derive(Clone)]
pub(crate) struct Part {
    pub(crate) text: Zeroizing<String>,
    pub(crate) tree: Option<Tree>,
    /// Whether it is or may be a secret.
    pub(crate) is_secret: bool,
}

/// What a text is read and written as.
#[derive(Clone, Copy)]
pub(crate) enum Form<'f> {
    /// A format of names and values.
    Tree(OutputFormat, Particulars<'f>),
    /// Rows, as a JSON object of texts; of lookup tables that are kept apart these are JSON again.
    Rows(&'f [Apart]),
    /// Text alone.
    Text,
}

impl<'f> Form<'f> {
    /// The form of what an outlet has, or of one of its files; `output` is what the ledger makes for it.
    pub(crate) fn of(kind: &'f OutletKind, output: Option<&'f RenderedOutput<'_>>) -> Self {
        match (kind, output) {
            (OutletKind::Rows(rows), _) => Form::Rows(&rows.content.apart),
            (OutletKind::Http(_), _) => Form::Tree(OutputFormat::Json, Particulars::default()),
            (_, Some(output)) if output.output.template.is_none() => {
                Form::Tree(output.output.format, particulars(output))
            }
            _ => Form::Text,
        }
    }

    /// Reads what is kept, if it is readable here.
    pub(crate) fn read_kept(self, kept: &Kept) -> Option<Part> {
        Some(Part { is_secret: kept.is_secret(), ..self.read(kept.expose()?) })
    }

    /// Reads a text of which nobody says that it is no secret.
    pub(crate) fn read(self, text: &Zeroizing<String>) -> Part {
        let tree = match self {
            Form::Tree(this, particulars) => {
                existing::read(text, this, particulars).ok().map(|found| found.tree)
            }
            Form::Rows(apart) => {
                let rows: Option<BTreeMap<String, String>> = serde_json::from_str(text).ok();
                rows.map(|rows| {
                    let value = |(name, text): (&String, &String)| {
                        (name.as_str().into(), value_of_row(apart, name, text))
                    };
                    Tree(rows.iter().map(value).collect())
                })
            }
            Form::Text => None,
        };
        Part { text: text.clone(), tree, is_secret: true }
    }

    /// The text of names and values.
    pub(crate) fn write(self, tree: &Tree) -> Result<Zeroizing<String>, String> {
        match self {
            Form::Tree(this, particulars) => {
                let form = format(this, particulars).ok_or("it has no form to be written in")?;
                particulars.write(&*form, tree).map(Zeroizing::new).map_err(|error| error.to_string())
            }
            Form::Rows(_) => Ok(rows(tree.0.iter().map(|(name, value)| (name.as_str(), value.to_text())))),
            Form::Text => Err("it has no form to be written in".to_owned()),
        }
    }
}

/// Rows as a text: a JSON object of texts.
pub(crate) fn rows<'r, T: AsRef<str>>(rows: impl Iterator<Item = (&'r str, T)>) -> Zeroizing<String> {
    let pairs = rows.map(|(name, text)| (name.to_owned(), serde_json::Value::from(text.as_ref())));
    Zeroizing::new(serde_json::Value::Object(pairs.collect()).to_string())
}
