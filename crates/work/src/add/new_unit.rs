//! What a new unit is to be.

use cledger_core::name::Name;

use crate::change::Consent;
use crate::declare::Said;

/// A unit that is new.
#[derive(Debug, Clone)]
pub struct NewUnit {
    /// Its name.
    pub name: Name,
    /// What is said of it.
    pub said: Vec<Said>,
    /// What it takes over from another unit.
    pub like: Like,
}

/// What a unit takes over from another.
#[derive(Debug, Clone, Default)]
pub struct Like {
    /// The other one.
    pub unit: Option<Name>,
    /// Texts in its values, and what stands in their place: old, new, old, new …
    pub swap: Vec<String>,
    /// Whether it takes over secrets, too.
    pub with_secrets: bool,
    /// What somebody says to it.
    pub consent: Consent,
}
