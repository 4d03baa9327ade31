//! A replacement in the making.

use cledger_core::model::LayerId;
use cledger_store::{Changed, Edit};

/// A value that is replaced, or that cannot be.
#[derive(Debug, Clone)]
pub struct Replaced {
    /// Its address.
    pub address: String,
    /// The file that it stands in.
    pub file: String,
    /// Its line there, from 1.
    pub line: usize,
    /// What it said; masked for a secret.
    pub before: String,
    /// What it says; masked for a secret.
    pub after: String,
}

/// A replacement in the making.
#[derive(Default)]
pub(crate) struct Replacing {
    pub(crate) replaced: Vec<Replaced>,
    pub(crate) edits: Vec<Edit>,
    /// New texts of CSV files.
    pub(crate) texts: Changed,
    /// How many encrypted secrets were found, which stay.
    pub(crate) encrypted: usize,
    pub(crate) layers: Vec<LayerId>,
    /// Settings that hold it inside of references, where it stays.
    pub(crate) in_references: Vec<String>,
}
