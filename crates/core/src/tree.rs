//! Trees of names and values: what a rendered file holds.

use std::collections::BTreeMap;
use std::fmt;

use compact_str::CompactString;

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
