//! What takes the place of what is found.

use std::ops::Range;

use cledger_core::reference::{Piece, pieces};
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
    /// Also what stands inside of references, `${…}`
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub in_references: bool,
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
        let changes = Changes::read(&self.lead, &self.swap, &self.regex)?;
        Ok(Changes { in_references: self.in_references, ..changes })
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
    /// Whether what stands inside of references changes, too.
    in_references: bool,
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
        let regex = compiled.collect::<Result<_, Trouble>>()?;
        Ok(Self { lead: pairs(lead), swap: pairs(swap), regex, in_references: true })
    }

    pub(crate) fn text(&self, text: &str) -> String {
        let mut text = text.to_owned();
        for (old, new) in &self.lead {
            let found = text.starts_with(old.as_str()).then_some((0..old.len(), new.clone()));
            text = self.changed(&text, found.into_iter());
        }
        for (old, new) in self.swap.iter().filter(|(old, _)| !old.is_empty()) {
            let found: Vec<_> =
                text.match_indices(old.as_str()).map(|(at, old)| (at..at + old.len(), new.clone())).collect();
            text = self.changed(&text, found.into_iter());
        }
        for (regex, new) in &self.regex {
            let found = regex.captures_iter(&text).filter_map(|found| {
                let mut expanded = String::new();
                found.expand(new, &mut expanded);
                Some((found.get(0)?.range(), expanded))
            });
            let found: Vec<_> = found.collect();
            text = self.changed(&text, found.into_iter());
        }
        text
    }

    /// A text with others in these places, but for those that are a part of a reference. What names one whole is meant
    /// as it is.
    fn changed(&self, text: &str, found: impl Iterator<Item = (Range<usize>, String)>) -> String {
        let references = if self.in_references { Vec::new() } else { references(text) };
        let (mut made, mut done) = (String::new(), 0);
        for (range, new) in found {
            let is_part = |reference: &Range<usize>| {
                let overlaps = reference.start < range.end && range.start < reference.end;
                overlaps && !(range.start <= reference.start && reference.end <= range.end)
            };
            if references.iter().any(is_part) {
                continue;
            }
            made.push_str(&text[done..range.start]);
            made.push_str(&new);
            done = range.end;
        }
        made + &text[done..]
    }

    /// Whether something in a value stays only since it stands inside of a reference.
    pub(crate) fn leaves_references(&self, value: &Value) -> bool {
        let all = Self {
            lead: self.lead.clone(),
            swap: self.swap.clone(),
            regex: self.regex.clone(),
            in_references: true,
        };
        !self.in_references && all.value(value) != self.value(value)
    }

    /// A value with its texts changed.
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

/// Where references stand in a text, with what marks them.
fn references(text: &str) -> Vec<Range<usize>> {
    let at = |part: &str| part.as_ptr() as usize - text.as_ptr() as usize;
    let range = |piece: Piece<'_>| match piece {
        Piece::Literal(_) => None,
        Piece::Reference(inside) => Some(at(inside) - 2..at(inside) + inside.len() + 1),
        Piece::Unclosed(inside) => Some(at(inside) - 2..text.len()),
    };
    pieces(text).filter_map(range).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_stands_inside_of_references_stays_unless_it_is_meant() {
        let pair = |old: &str, new: &str| vec![old.to_owned(), new.to_owned()];
        let swap = |old, new| ChangeTexts { swap: pair(old, new), ..ChangeTexts::default() };
        let regex = |old, new| ChangeTexts { regex: pair(old, new), ..ChangeTexts::default() };
        let lead = |old, new| ChangeTexts { lead: pair(old, new), ..ChangeTexts::default() };
        for (texts, before, after, left) in [
            (
                swap("badge", "plate"),
                "badge ${badge.host} $${badge} badge",
                "plate ${badge.host} $${plate} plate",
                true,
            ),
            (swap("${badge.host}", "x"), "a ${badge.host}", "a x", false),
            (swap("x", "y"), "x ${a", "y ${a", false),
            (regex("^b.", "c"), "ba${ba}ba", "c${ba}ba", false),
            (regex("b(.)", "$1"), "ba${ba}ba", "a${ba}a", true),
            (lead("${a", "b"), "${a}c", "${a}c", true),
            (lead("a", "b"), "a${a}", "b${a}", false),
        ] {
            let changes = texts.of_values().unwrap();
            assert_eq!(changes.text(before), after, "{before}");
            assert_eq!(changes.leaves_references(&Value::text(before)), left, "{before}");
            let all = ChangeTexts { in_references: true, ..texts }.of_values().unwrap();
            assert!(!all.leaves_references(&Value::text(before)));
        }
    }
}
