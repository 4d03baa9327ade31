//! Where each name of a file, a document or a scope stands: as it is there, as it was brought, as it is to be.

use std::collections::BTreeMap;
use std::fmt;

use crate::output::OutputName;
use crate::tree::{Branch, Tree};
use crate::value::Value;

/// Whose a value is that a delivery changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Whose {
    /// It is there as it was brought; or nothing is there, and nothing was brought.
    Ours,
    /// Somebody has changed it, added it or taken it away since something was brought.
    Edited,
    /// It stood there before anything was brought.
    Before,
}

/// A name whose value is to be another one than is there.
#[derive(Clone, PartialEq)]
pub struct Step {
    /// The name.
    pub name: OutputName,
    /// What is there.
    pub there: Option<Value>,
    /// What is to be there.
    pub will: Option<Value>,
    /// Whose it is.
    pub whose: Whose,
}

// Values may be secrets, so only names are printed.
impl fmt::Debug for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Step").field("name", &self.name).field("whose", &self.whose).finish_non_exhaustive()
    }
}

/// The sides of one file, document or scope.
#[derive(Debug, Clone, Copy)]
pub struct Sides<'t> {
    /// What is there; none where there is no such thing.
    pub there: Option<&'t Tree>,
    /// What may have been brought last, the latest first: one, but where nobody knows how a delivery ended. Nothing
    /// was ever brought where this is empty.
    pub brought: &'t [Option<Tree>],
    /// Whether nothing was brought yet, and that was found there and taken into the ledger.
    pub is_found: bool,
    /// What is to be there.
    pub ours: Option<&'t Tree>,
}

/// A name that must stay, and has no place beside what is to be there.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{}` cannot stay: something of ours takes its place", .0.join("."))]
pub struct NoPlace(pub OutputName);

/// The names whose values change, in their order. `theirs` are those that are never ours: they stay, and are passed
/// over.
pub fn steps(sides: Sides<'_>, theirs: impl Fn(&OutputName) -> bool) -> Vec<Step> {
    let of = |tree: Option<&Tree>| tree.map(|tree| owned(tree.leaves())).unwrap_or_default();
    let (there, ours) = (of(sides.there), of(sides.ours));
    let brought: Vec<_> = sides.brought.iter().map(|tree| of(tree.as_ref())).collect();
    let mut names: Vec<&OutputName> = there.keys().chain(ours.keys()).collect();
    names.sort_unstable();
    names.dedup();
    let step = |name: &OutputName| {
        let (there, will) = (there.get(name), ours.get(name));
        if there == will || will.is_none() && theirs(name) {
            return None;
        }
        let whose = if brought.iter().any(|brought| brought.get(name) == there) {
            Whose::Ours
        } else if !brought.is_empty() && !sides.is_found {
            Whose::Edited
        } else if there.is_some() {
            Whose::Before
        } else {
            Whose::Ours
        };
        Some(Step { name: name.clone(), there: there.cloned(), will: will.cloned(), whose })
    };
    names.into_iter().filter_map(step).collect()
}

/// The names that are there with just the values that they are to have.
pub fn alike(sides: Sides<'_>) -> Tree {
    let ours = sides.ours.map(Tree::leaves).unwrap_or_default();
    let there = sides.there.map(Tree::leaves).unwrap_or_default();
    let mut alike = Tree::default();
    for (name, value) in there.iter().filter(|(name, value)| ours.get(*name) == Some(value)) {
        alike.insert(name, (*value).clone());
    }
    alike
}

fn owned(leaves: BTreeMap<OutputName, &Value>) -> BTreeMap<OutputName, Value> {
    leaves.into_iter().map(|(name, value)| (name, value.clone())).collect()
}

/// What is to be there in the end: ours, with the names that are theirs, and those that stay as they are there.
pub fn target(
    sides: Sides<'_>,
    theirs: impl Fn(&OutputName) -> bool,
    staying: &[&Step],
) -> Result<Tree, NoPlace> {
    let mut tree = sides.ours.cloned().unwrap_or_default();
    for step in staying {
        remove(&mut tree.0, &step.name);
    }
    let ours = sides.ours.map(Tree::leaves).unwrap_or_default();
    let there = sides.there.map(Tree::leaves).unwrap_or_default();
    let kept = there.into_iter().filter(|(name, _)| {
        staying.iter().any(|step| step.name == *name) || !ours.contains_key(name) && theirs(name)
    });
    for (name, value) in kept {
        put(&mut tree, &name, value)?;
    }
    Ok(tree)
}

fn put(tree: &mut Tree, name: &OutputName, value: &Value) -> Result<(), NoPlace> {
    let in_the_way = |steps: &[String]| {
        tree.get(steps).is_some_and(|value| !matches!(value, Value::Map(level) if !level.is_empty()))
    };
    let is_level = tree.get(name).is_some_and(|value| matches!(value, Value::Map(_)));
    if is_level || (1..name.len()).any(|count| in_the_way(&name[..count])) {
        return Err(NoPlace(name.clone()));
    }
    tree.insert(name, value.clone());
    Ok(())
}

/// Takes a name out, and the levels that are empty then.
fn remove(branch: &mut Branch, name: &[String]) {
    let Some((first, rest)) = name.split_first() else { return };
    if rest.is_empty() {
        branch.remove(first.as_str());
        return;
    }
    if let Some(Value::Map(level)) = branch.get_mut(first.as_str()) {
        remove(level, rest);
        if level.is_empty() {
            branch.remove(first.as_str());
        }
    }
}

/// A tree with these names as they are in another one.
pub fn with_names_of(tree: Option<&Tree>, names: &[OutputName], other: Option<&Tree>) -> Tree {
    let mut with = tree.cloned().unwrap_or_default();
    for name in names {
        remove(&mut with.0, name);
        if let Some(value) = other.and_then(|other| other.get(name)) {
            with.insert(name, value.clone());
        }
    }
    with
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn tree(text: &str) -> Option<Tree> {
        if text == "-" {
            return None;
        }
        let mut tree = Tree::default();
        for pair in text.split_whitespace() {
            let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
            let steps: Vec<String> = name.split('.').map(str::to_owned).collect();
            tree.insert(&steps, Value::text(value));
        }
        Some(tree)
    }

    fn told(there: &str, brought: &[&str], ours: &str) -> String {
        let (there, ours) = (tree(there), tree(ours));
        let brought: Vec<_> = brought.iter().map(|text| tree(text)).collect();
        let sides = Sides { there: there.as_ref(), brought: &brought, is_found: false, ours: ours.as_ref() };
        let steps = steps(sides, |name| name[0] == "theirs");
        let told = steps.iter().map(|step| format!("{} {:?}", step.name.join("."), step.whose));
        told.collect::<Vec<_>>().join(", ")
    }

    #[test]
    fn what_somebody_did_by_hand_is_told_from_what_was_brought_and_what_was_there_before() {
        for (there, brought, ours, expected) in [
            ("-", &[][..], "a=1", "a Ours"),
            ("a=1", &[], "a=1", ""),
            ("a=2 b=1", &[], "a=1", "a Before, b Before"),
            ("a=1 theirs=7", &["a=1"], "a=2", "a Ours"),
            ("a=9", &["a=1"], "a=2", "a Edited"),
            ("a=2", &["a=1"], "a=2", ""),
            ("a=1 b=1", &["a=1"], "a=1", "b Edited"),
            ("-", &["a=1"], "a=1", "a Edited"),
            ("-", &["a=1"], "b=1", "b Ours"),
            ("a=1 old=3", &["a=1 old=3"], "a=1", "old Ours"),
            ("a=1", &["a=2", "a=1"], "a=2", "a Ours"),
            ("a=3", &["a=2", "a=1"], "a=2", "a Edited"),
            ("db=x", &["db=x"], "db.host=h", "db Ours, db.host Ours"),
        ] {
            assert_eq!(told(there, brought, ours), expected, "{there} {brought:?} {ours}");
        }
    }

    #[test]
    fn what_is_there_already_is_told_from_what_changes() {
        for (there, ours, expected) in [
            ("a=1 b=2 theirs=7", "a=1 b=3 c=4", "a=1"),
            ("db.host=h db.port=1", "db.host=h db.port=2", "db.host=h"),
            ("-", "a=1", ""),
            ("a=1", "-", ""),
        ] {
            let (there, ours) = (tree(there), tree(ours));
            let sides = Sides { there: there.as_ref(), brought: &[], is_found: false, ours: ours.as_ref() };
            assert!(alike(sides) == tree(expected).unwrap(), "{expected}");
        }
    }

    #[test]
    fn what_stays_has_a_place_or_is_told() {
        let ends = |there: &str, ours: &str, stay: &str| {
            let (there, ours) = (tree(there), tree(ours));
            let sides = Sides { there: there.as_ref(), brought: &[], is_found: false, ours: ours.as_ref() };
            let theirs = |name: &OutputName| name.last().is_some_and(|last| last == "node");
            let steps = steps(sides, theirs);
            let staying: Vec<&Step> = steps.iter().filter(|step| step.name.join(".") == stay).collect();
            target(sides, theirs, &staying)
        };
        for (there, ours, stay, expected) in [
            ("a=1 b=2", "a=3 b=4", "b", "a=3 b=2"),
            ("a=1", "a=3 b=4", "b", "a=3"),
            ("a=1 b=2", "a=3", "b", "a=3 b=2"),
            ("db.node=n db.host=x", "db.host=y", "", "db.host=y db.node=n"),
        ] {
            assert!(ends(there, ours, stay) == Ok(tree(expected).unwrap_or_default()), "{there} {ours}");
        }
        let lost = ends("db.node=n", "db=text", "");
        assert_eq!(lost.map_err(|lost| lost.0.join(".")).err().as_deref(), Some("db.node"));
    }

    proptest! {
        /// Whatever stays, nothing else of ours is missing in the end, and nothing of theirs.
        #[test]
        fn what_stays_is_there_and_so_is_the_rest(
            there in proptest::collection::btree_map("[a-d]", "[0-2]", 0..4),
            ours in proptest::collection::btree_map("[a-d]", "[0-2]", 0..4),
            stays in proptest::collection::btree_set("[a-d]", 0..3),
        ) {
            let tree = |map: &BTreeMap<String, String>| {
                Tree(map.iter().map(|(name, value)| (name.as_str().into(), Value::text(value))).collect())
            };
            let (there_tree, ours_tree) = (tree(&there), tree(&ours));
            let sides = Sides { there: Some(&there_tree), brought: &[], is_found: false, ours: Some(&ours_tree) };
            let steps = steps(sides, |_| false);
            let staying: Vec<&Step> = steps.iter().filter(|step| stays.contains(&step.name[0])).collect();
            let end = target(sides, |_| false, &staying).unwrap();
            for name in ["a", "b", "c", "d"] {
                let expected = if stays.contains(name) { there.get(name) } else { ours.get(name) };
                let expected = expected.map(|text| Value::text(text));
                prop_assert!(end.get(&[name.to_owned()]) == expected.as_ref());
            }
        }
    }
}
