//! What makes that which is there into ours, and leaves alone what was never ours.

use std::collections::BTreeMap;
use std::fmt;

use zeroize::Zeroizing;

use crate::tree::{Branch, Tree};
use crate::value::Value;

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

impl fmt::Debug for RowChange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RowChange::Insert(name, _) => f.debug_tuple("Insert").field(name).finish(),
            RowChange::Update(name, _) => f.debug_tuple("Update").field(name).finish(),
            RowChange::Remove(name) => f.debug_tuple("Remove").field(name).finish(),
        }
    }
}

/// What makes `there` into `ours`, by name. Names that we do not bring go if they are ours, and stay if
/// they are not.
pub fn row_changes(
    there: &BTreeMap<String, Zeroizing<String>>,
    ours: &BTreeMap<String, Zeroizing<String>>,
    is_ours: impl Fn(&str) -> bool,
) -> Vec<RowChange> {
    let brought = ours.iter().filter_map(|(name, value)| match there.get(name) {
        None => Some(RowChange::Insert(name.clone(), value.clone())),
        Some(same) if same == value => None,
        Some(_) => Some(RowChange::Update(name.clone(), value.clone())),
    });
    let gone = there.keys().filter(|name| !ours.contains_key(*name) && is_ours(name));
    brought.chain(gone.map(|name| RowChange::Remove(name.clone()))).collect()
}

/// Our document, with what is there and never ours: names that `keeps` covers, steps joined with dots.
pub fn merged(there: &Tree, ours: Tree, keeps: impl Fn(&str) -> bool) -> Tree {
    let mut merged = ours;
    keep(&there.0, &mut merged.0, &mut Vec::new(), &keeps);
    merged
}

fn keep(there: &Branch, ours: &mut Branch, steps: &mut Vec<String>, keeps: &impl Fn(&str) -> bool) {
    for (step, value) in there {
        steps.push(step.to_string());
        match (value, ours.get_mut(step)) {
            (Value::Map(there), Some(Value::Map(ours))) => keep(there, ours, steps, keeps),
            (_, None) if keeps(&steps.join(".")) => drop(ours.insert(step.clone(), value.clone())),
            (Value::Map(there), None) => {
                let mut kept = Branch::new();
                keep(there, &mut kept, steps, keeps);
                if !kept.is_empty() {
                    ours.insert(step.clone(), Value::Map(kept));
                }
            }
            _ => {}
        }
        steps.pop();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(pairs: &[(&str, &str)]) -> BTreeMap<String, Zeroizing<String>> {
        pairs.iter().map(|(name, value)| ((*name).to_owned(), Zeroizing::new((*value).to_owned()))).collect()
    }

    #[test]
    fn only_what_is_ours_goes() {
        let there = rows(&[("a", "1"), ("b", "2"), ("theirs", "3"), ("same", "4")]);
        let ours = rows(&[("a", "9"), ("c", "5"), ("same", "4")]);
        let changes = row_changes(&there, &ours, |name| name == "b");
        assert_eq!(
            changes,
            [
                RowChange::Update("a".to_owned(), Zeroizing::new("9".to_owned())),
                RowChange::Insert("c".to_owned(), Zeroizing::new("5".to_owned())),
                RowChange::Remove("b".to_owned()),
            ]
        );
    }

    #[test]
    fn a_document_keeps_what_was_never_ours() {
        let tree = |pairs: &[(&str, &str)]| {
            let mut tree = Tree::default();
            for (name, value) in pairs {
                let steps: Vec<String> = name.split('.').map(str::to_owned).collect();
                tree.insert(&steps, Value::text(value));
            }
            tree
        };
        let there = [("id", "7"), ("old", "x"), ("db.host", "a"), ("db.node", "n3"), ("mq.node", "n4")];
        let ours = tree(&[("db.host", "b"), ("new", "y")]);
        let kept = merged(&tree(&there), ours, |name| name == "id" || name.contains(".node"));
        let expected = [("id", "7"), ("db.host", "b"), ("db.node", "n3"), ("mq.node", "n4"), ("new", "y")];
        assert!(kept == tree(&expected));
    }
}
