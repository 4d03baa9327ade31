//! What takes the place of what is found.

use cledger_core::value::Value;
use regex::Regex;
use serde::{Deserialize, Serialize};

use crate::conditions::regex;
use crate::trouble::Trouble;

/// Names that can be replaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Names {
    /// Of units
    Units,
    /// Of entries
    Entries,
    /// Of fields in rendered files
    Outputs,
}

/// The changes that were asked for, as texts; pairs stand one behind the other.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct ChangeTexts {
    /// A whole new value
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// One text for another, wherever it stands in a value
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub swap: Vec<String>,
    /// One leading part of a value for another
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub lead: Vec<String>,
    /// What matches in a value for another text, in which $1 is the first group
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub regex: Vec<String>,
    /// Which names to change, too
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<Names>,
    /// One text for another, wherever it stands in one of these names
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub name_swap: Vec<String>,
    /// One leading part of these names for another
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub name_lead: Vec<String>,
    /// What matches in these names for another text
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub name_regex: Vec<String>,
}

impl ChangeTexts {
    pub(crate) fn is_empty(&self) -> bool {
        !self.changes_values() && !self.changes_names() && self.names.is_empty()
    }

    pub(crate) fn changes_values(&self) -> bool {
        self.to.is_some() || [&self.swap, &self.lead, &self.regex].iter().any(|list| !list.is_empty())
    }

    pub(crate) fn changes_names(&self) -> bool {
        [&self.name_swap, &self.name_lead, &self.name_regex].iter().any(|list| !list.is_empty())
    }

    /// All texts in it, to be filled in.
    pub(crate) fn texts(&mut self) -> impl Iterator<Item = &mut String> {
        let values = [&mut self.swap, &mut self.lead, &mut self.regex];
        let names = [&mut self.name_swap, &mut self.name_lead, &mut self.name_regex];
        self.to.iter_mut().chain(values.into_iter().chain(names).flatten())
    }

    /// The changes of values' texts.
    pub(crate) fn of_values(&self) -> Result<Changes, Trouble> {
        Changes::read(&self.lead, &self.swap, &self.regex)
    }

    /// The changes of names.
    pub(crate) fn of_names(&self) -> Result<Changes, Trouble> {
        Changes::read(&self.name_lead, &self.name_swap, &self.name_regex)
    }
}

/// Changes of a text, in the order in which they are made.
pub(crate) struct Changes {
    lead: Vec<(String, String)>,
    swap: Vec<(String, String)>,
    regex: Vec<(Regex, String)>,
}

impl Changes {
    fn read(lead: &[String], swap: &[String], patterns: &[String]) -> Result<Self, Trouble> {
        let pairs = |list: &[String]| -> Vec<(String, String)> {
            list.chunks_exact(2).map(|pair| (pair[0].clone(), pair[1].clone())).collect()
        };
        // `$1v3` means the first group and `v3`, not a group that is called `1v3`.
        let group = regex(r"\$(\d+)")?;
        let compiled = pairs(patterns)
            .into_iter()
            .map(|(text, new)| Ok((regex(&text)?, group.replace_all(&new, "$${$1}").into_owned())));
        Ok(Self { lead: pairs(lead), swap: pairs(swap), regex: compiled.collect::<Result<_, Trouble>>()? })
    }

    pub(crate) fn text(&self, text: &str) -> String {
        let mut text = text.to_owned();
        for (old, new) in &self.lead {
            if let Some(rest) = text.strip_prefix(old) {
                text = format!("{new}{rest}");
            }
        }
        for (old, new) in &self.swap {
            text = text.replace(old, new);
        }
        for (regex, new) in &self.regex {
            text = regex.replace_all(&text, new.as_str()).into_owned();
        }
        text
    }

    pub(crate) fn value(&self, value: &Value) -> Value {
        match value {
            Value::Text(text) => Value::text(&self.text(text)),
            Value::List(items) => Value::List(items.iter().map(|item| self.value(item)).collect()),
            Value::Map(map) => {
                Value::Map(map.iter().map(|(key, item)| (key.clone(), self.value(item))).collect())
            }
            other => other.clone(),
        }
    }
}
