//! Trees of names and values: what a rendered file holds.

use std::collections::BTreeMap;
use std::fmt;

use compact_str::CompactString;

use crate::json::Json;
use crate::output::OutputName;
use crate::value::Value;

/// The values at one level, by name.
pub type Branch = BTreeMap<CompactString, Value>;

/// Values by name; a value that is a map is a level of its own.
#[derive(Clone, PartialEq, Default)]
pub struct Tree(pub Branch);

// Values may be secrets, so only names are printed.
impl fmt::Debug for Tree {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.0.keys()).finish()
    }
}

/// In which order names stand in a file. Those of which nothing is said come after the others, by name.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Order(BTreeMap<OutputName, usize>);

impl Order {
    /// The order of these names: the first is the first in the file, and so is every level above it.
    pub fn of<'n>(names: impl IntoIterator<Item = &'n OutputName>) -> Self {
        let mut ranks: BTreeMap<OutputName, usize> = BTreeMap::new();
        for (rank, name) in names.into_iter().enumerate() {
            for length in 1..=name.len() {
                ranks.entry(name[..length].to_vec()).or_insert(rank);
            }
        }
        Self(ranks)
    }

    /// The same a level further down.
    #[must_use]
    pub fn below(self, step: &str) -> Self {
        let names = self.0.into_iter().map(|(name, rank)| ([vec![step.to_owned()], name].concat(), rank));
        let mut ranks: BTreeMap<OutputName, usize> = names.collect();
        ranks.insert(vec![step.to_owned()], 0);
        Self(ranks)
    }

    /// Adds what comes after all of these.
    pub fn extend(&mut self, after: Order) {
        let first = self.0.values().max().map_or(0, |last| last + 1);
        self.0.extend(after.0.into_iter().map(|(name, rank)| (name, rank + first)));
    }

    /// The names of a level below these steps, in their order.
    pub fn sorted<'b>(&self, steps: &[&str], branch: &'b Branch) -> Vec<(&'b CompactString, &'b Value)> {
        let mut names: Vec<_> = branch.iter().collect();
        if !self.0.is_empty() {
            names.sort_by_cached_key(|(name, _)| {
                let full: OutputName =
                    steps.iter().copied().chain([name.as_str()]).map(str::to_owned).collect();
                self.0.get(&full).copied().unwrap_or(usize::MAX)
            });
        }
        names
    }

    /// A level as JSON, in this order.
    pub fn json<'b>(&self, steps: &mut Vec<&'b str>, branch: &'b Branch) -> Json {
        let mut pairs = Vec::with_capacity(branch.len());
        for (name, value) in self.sorted(steps, branch) {
            steps.push(name);
            let json = match value {
                Value::Map(level) => self.json(steps, level),
                other => Json::of_value(other),
            };
            steps.pop();
            pairs.push((name.clone(), json));
        }
        Json::Object(pairs)
    }
}

impl Tree {
    /// Puts a value below these steps. A step that is a value already is replaced by a level.
    pub fn insert(&mut self, steps: &[String], value: Value) {
        let Some((last, levels)) = steps.split_last() else { return };
        let mut branch = &mut self.0;
        for step in levels {
            let next = branch.entry(step.as_str().into()).or_insert_with(|| Value::Map(Branch::new()));
            if !matches!(next, Value::Map(_)) {
                *next = Value::Map(Branch::new());
            }
            let Value::Map(level) = next else { return };
            branch = level;
        }
        branch.insert(last.as_str().into(), value);
    }

    /// The values that are no levels, by name; an empty level is one.
    pub fn leaves(&self) -> BTreeMap<OutputName, &Value> {
        fn add<'t>(branch: &'t Branch, steps: &mut OutputName, found: &mut BTreeMap<OutputName, &'t Value>) {
            for (step, value) in branch {
                steps.push(step.to_string());
                match value {
                    Value::Map(level) if !level.is_empty() => add(level, steps, found),
                    _ => drop(found.insert(steps.clone(), value)),
                }
                steps.pop();
            }
        }
        let mut found = BTreeMap::new();
        add(&self.0, &mut Vec::new(), &mut found);
        found
    }

    /// The value below these steps.
    pub fn get(&self, steps: &[String]) -> Option<&Value> {
        let (first, rest) = steps.split_first()?;
        let mut value = self.0.get(first.as_str())?;
        for step in rest {
            let Value::Map(level) = value else { return None };
            value = level.get(step.as_str())?;
        }
        Some(value)
    }
}
