//! What is brought, and where.

use std::time::Duration;

use cledger_core::delivery::RowChange;
use zeroize::Zeroizing;

use crate::held::{Asked, Held};
use crate::reach::Reach;

/// A file to be written.
#[derive(Clone)]
pub struct NewFile {
    /// Its path below the unit's folder.
    pub path: String,
    /// What stands in it.
    pub text: Zeroizing<String>,
    /// Whether that is for its owner alone.
    pub secret: bool,
    /// The permission bits that it gets; for its owner alone, or as before, where nothing is said.
    pub mode: Option<u32>,
}

/// What is brought.
#[derive(Clone)]
pub enum Content {
    /// These files; a path without a file is taken away.
    Files(Vec<NewFile>, Vec<String>),
    /// This JSON document.
    Document(Zeroizing<String>),
    /// No document any more.
    NoDocument,
    /// These changes of rows.
    Rows(Vec<RowChange>),
}

/// One unit or instance on its way to one outlet.
pub struct Load {
    /// The way to the outlet.
    pub reach: Reach,
    /// What the unit has there.
    pub asked: Asked,
    /// What was seen there.
    pub seen: Held,
    /// What is brought.
    pub content: Content,
    /// How long that may take.
    pub limit: Duration,
}
