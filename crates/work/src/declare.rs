//! Declaring by command what else is written by hand: whatever stands in `ledger.toml` and in contracts, key by key.

pub mod add;
pub mod change;
mod known_names;
mod literal;
pub mod thing;
pub(crate) mod touches;

pub use literal::Said;
pub use thing::Thing;

use cledger_core::effects::Effect;
use cledger_core::findings::Finding;

use crate::touched::TouchedFile;

/// What was declared, changed or taken out, and what that does.
#[derive(Debug)]
pub struct Declared {
    /// What it is.
    pub what: String,
    /// Whether it is new.
    pub is_new: bool,
    /// The keys that are said, with what was said before and what is after.
    pub keys: Vec<DeclaredKey>,
    /// The files that change.
    pub files: Vec<TouchedFile>,
    /// How many settings are written for it, where it is a field or an entry.
    pub settings: Option<usize>,
    /// The effective values that change.
    pub effects: Vec<Effect>,
    /// The findings that it causes.
    pub caused: Vec<Finding>,
    /// The findings that it cures.
    pub cured: Vec<Finding>,
    /// Whether it is done.
    pub written: bool,
    /// How it is done where it is not.
    pub to_do: ToDo,
}

/// How something is done that is only shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ToDo {
    /// With `--write`.
    Write,
    /// Without `--dry-run`.
    NoDryRun,
}

/// A key of a declaration, as TOML says it; nothing where it is not said.
#[derive(Debug, Clone)]
pub struct DeclaredKey {
    /// How it is written.
    pub name: String,
    /// What it said.
    pub before: Option<String>,
    /// What it says.
    pub after: Option<String>,
}
