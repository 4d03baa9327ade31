//! Patterns of a unit's fields: `ENTRY` or `ENTRY.FIELD`, with `*` and `?` in each.

use std::collections::{BTreeMap, BTreeSet};

use crate::address::Pattern;

/// A text is no such pattern.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a pattern of fields is ENTRY or ENTRY.FIELD")]
pub struct NoFieldPattern;

/// Several patterns. Those without a wildcard are found at once, however many there are.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct FieldPatterns {
    /// As they are written, in their order.
    texts: Vec<String>,
    /// By entry: its fields, or `None` for all of it.
    exact: BTreeMap<String, Option<BTreeSet<String>>>,
    wild: Vec<Pattern>,
}

impl FieldPatterns {
    /// Adds a pattern; one that names more than an entry and a field is none.
    pub fn add(&mut self, text: &str) -> Result<(), NoFieldPattern> {
        if text.contains(['/', '@']) {
            return Err(NoFieldPattern);
        }
        let pattern = Pattern::parse(&format!("*/{text}")).map_err(|_| NoFieldPattern)?;
        self.texts.push(text.to_owned());
        if text.contains(['*', '?']) {
            self.wild.push(pattern);
            return Ok(());
        }
        match text.split_once('.') {
            None => drop(self.exact.insert(text.to_owned(), None)),
            Some((entry, field)) => {
                let known = self.exact.entry(entry.to_owned()).or_insert_with(|| Some(BTreeSet::new()));
                if let Some(fields) = known {
                    fields.insert(field.to_owned());
                }
            }
        }
        Ok(())
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.texts.is_empty()
    }

    /// The patterns as they are written.
    pub fn texts(&self) -> &[String] {
        &self.texts
    }

    /// Whether one of them covers a field; a variable's is `None`.
    pub fn covers(&self, entry: &str, field: Option<&str>) -> bool {
        let exact = self.exact.get(entry).is_some_and(|fields| match (fields, field) {
            (None, _) => true,
            (Some(fields), Some(field)) => fields.contains(field),
            (Some(_), None) => false,
        });
        exact || self.wild.iter().any(|pattern| pattern.covers_field(entry, field))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_fields_and_wildcards_are_covered() {
        let mut patterns = FieldPatterns::default();
        for text in ["db", "api.base", "api.token", "*.url", "seat_?old"] {
            patterns.add(text).unwrap();
        }
        for (entry, field, covered) in [
            ("db", Some("host"), true),
            ("db", None, true),
            ("api", Some("base"), true),
            ("api", Some("proxy"), false),
            ("api", None, false),
            ("mail", Some("url"), true),
            ("seat_hold", None, true),
            ("seat", None, false),
        ] {
            assert_eq!(patterns.covers(entry, field), covered, "{entry} {field:?}");
        }
        assert!(patterns.add("desk/limit").is_err() && patterns.add("a@dev").is_err());
    }
}
