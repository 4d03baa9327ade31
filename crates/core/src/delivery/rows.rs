//! What changes about rows.

use std::collections::BTreeMap;
use std::fmt;

use zeroize::Zeroizing;

/// A change of one row. Values may be secrets, so only names are printed.
#[derive(Clone, PartialEq, Eq)]
pub enum RowChange {
    /// The name comes in with this value.
    Insert(String, Zeroizing<String>),
    /// The name gets this value.
    Update(String, Zeroizing<String>),
    /// The name goes.
    Remove(String),
}

impl RowChange {
    /// The name.
    pub fn name(&self) -> &str {
        match self {
            RowChange::Insert(name, _) | RowChange::Update(name, _) | RowChange::Remove(name) => name,
        }
    }
}

impl fmt::Debug for RowChange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RowChange::Insert(name, _) => f.debug_tuple("Insert").field(name).finish(),
            RowChange::Update(name, _) => f.debug_tuple("Update").field(name).finish(),
            RowChange::Remove(name) => f.debug_tuple("Remove").field(name).finish(),
        }
    }
}

/// What makes the rows that are there into these.
pub fn row_changes(
    there: &BTreeMap<String, Zeroizing<String>>,
    will: &BTreeMap<String, Zeroizing<String>>,
) -> Vec<RowChange> {
    let brought = will.iter().filter_map(|(name, value)| match there.get(name) {
        None => Some(RowChange::Insert(name.clone(), value.clone())),
        Some(same) if same == value => None,
        Some(_) => Some(RowChange::Update(name.clone(), value.clone())),
    });
    let gone = there.keys().filter(|name| !will.contains_key(*name));
    brought.chain(gone.map(|name| RowChange::Remove(name.clone()))).collect()
}
