//! What is found in a file: its values, and the line of each.

use std::collections::BTreeMap;
use std::fmt;

use cledger_core::json::Json;
use cledger_core::tree::{Branch, Tree};
use cledger_core::value::Value;

use crate::ReadError;

/// The values of a file, with the lines that they stand in.
#[derive(Clone, PartialEq, Default)]
pub struct Found {
    /// The values by name.
    pub tree: Tree,
    /// The line of each value that is no level, from 1, by the steps of its name.
    pub lines: BTreeMap<Vec<String>, usize>,
    /// The name of a manifest.
    pub manifest_name: Option<String>,
}

// Values may be secrets, so only names are printed.
impl fmt::Debug for Found {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_map().entries(&self.lines).finish()
    }
}

impl Found {
    /// Adds a value whose name has one step.
    pub(crate) fn add(&mut self, name: &str, value: Value, line: usize) -> Result<(), ReadError> {
        self.lines.insert(vec![name.to_owned()], line);
        match self.tree.0.insert(name.into(), value) {
            None => Ok(()),
            Some(_) => Err(twice(name, line)),
        }
    }

    /// Adds a value below a section.
    pub(crate) fn add_below(
        &mut self,
        section: &str,
        name: &str,
        value: Value,
        line: usize,
    ) -> Result<(), ReadError> {
        let level = self.tree.0.entry(section.into()).or_insert_with(|| Value::Map(Branch::new()));
        let Value::Map(level) = level else { return Err(twice(section, line)) };
        self.lines.insert(vec![section.to_owned(), name.to_owned()], line);
        match level.insert(name.into(), value) {
            None => Ok(()),
            Some(_) => Err(twice(name, line)),
        }
    }

    /// The line of a value, or of the first one below a level.
    pub fn line_of(&self, steps: &[String]) -> Option<usize> {
        let (name, line) = self.lines.range(steps.to_vec()..).next()?;
        name.starts_with(steps).then_some(*line)
    }
}

pub(crate) fn twice(name: &str, line: usize) -> ReadError {
    ReadError { line, reason: format!("the name `{name}` is there twice") }
}

/// A value in a file whose form has levels.
pub(crate) enum Node {
    /// Null.
    Null,
    /// Anything but a level.
    Value(Value),
    /// Names with their lines and what they stand for.
    Level(Vec<(String, usize, Node)>),
}

impl Node {
    /// The same as JSON, without the lines.
    pub(crate) fn into_json(self) -> Json {
        match self {
            Node::Null => Json::Null,
            Node::Value(value) => Json::of_value(&value),
            Node::Level(names) => {
                let pairs = names.into_iter().map(|(name, _, node)| (name.into(), node.into_json()));
                Json::Object(pairs.collect())
            }
        }
    }
}

impl From<Json> for Node {
    /// A node that knows no lines.
    fn from(json: Json) -> Self {
        match json {
            Json::Null => Node::Null,
            Json::Object(pairs) => {
                Node::Level(pairs.into_iter().map(|(name, json)| (name.into(), 1, json.into())).collect())
            }
            other => Node::Value(other.into_value()),
        }
    }
}

impl Found {
    /// What is in the outermost level of a file.
    pub(crate) fn of_root(root: Node) -> Result<Self, ReadError> {
        let mut found = Self::default();
        match root {
            Node::Null => {}
            Node::Value(other) => {
                let reason = format!("names with values are expected, and this is a {}", other.type_name());
                return Err(ReadError { line: 1, reason });
            }
            Node::Level(names) => found.tree.0 = found.level(names, &mut Vec::new())?,
        }
        Ok(found)
    }

    fn level(
        &mut self,
        names: Vec<(String, usize, Node)>,
        steps: &mut Vec<String>,
    ) -> Result<Branch, ReadError> {
        let mut branch = Branch::new();
        for (name, line, node) in names {
            steps.push(name);
            let value = match node {
                Node::Null => {
                    self.lines.insert(steps.clone(), line);
                    Value::Json(Json::Null)
                }
                Node::Value(value) => {
                    self.lines.insert(steps.clone(), line);
                    value
                }
                Node::Level(below) => {
                    if below.is_empty() {
                        self.lines.insert(steps.clone(), line);
                    }
                    Value::Map(self.level(below, steps)?)
                }
            };
            let name = steps.pop().unwrap_or_default();
            if branch.insert(name.as_str().into(), value).is_some() {
                return Err(twice(&name, line));
            }
        }
        Ok(branch)
    }
}
