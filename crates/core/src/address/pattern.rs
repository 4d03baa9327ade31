//! Address patterns: `*` and `?` within one name, and parts left out that cover everything.

use std::fmt;

use wildmatch::WildMatch;

use super::{Address, AddressError, Parts, mistake};
use crate::name::{Name, is_name_char};

/// A pattern of addresses: `*/bookings-db.*@prod-*`, `shared/*`, `ticket-desk`, `@test`.
///
/// A part that is left out covers everything: all instances, all entries, all fields, all stages.
/// A pattern with a field covers no variable, since a variable's field has no name.
#[derive(Debug, Clone, PartialEq)]
pub struct Pattern {
    text: String,
    owner: Option<Glob>,
    instance: Option<Glob>,
    entry: Option<Glob>,
    field: Option<Glob>,
    stage: Option<Glob>,
}

/// A name with `*` and `?` in it. Most are one of the simple forms, which are told apart once.
#[derive(Debug, Clone, PartialEq)]
enum Glob {
    /// `*` alone.
    All,
    /// A name without wildcards.
    Name(String),
    /// A name with one `*`, at its end: what stands before that.
    Start(String),
    Wild(WildMatch),
}

impl Glob {
    fn new(text: &str) -> Self {
        let is_plain = |part: &str| !part.contains(['*', '?']);
        match text.strip_suffix('*') {
            Some("") => Glob::All,
            Some(start) if is_plain(start) => Glob::Start(start.to_owned()),
            None if is_plain(text) => Glob::Name(text.to_owned()),
            _ => Glob::Wild(WildMatch::new(text)),
        }
    }

    fn matches(&self, name: &str) -> bool {
        match self {
            Glob::All => true,
            Glob::Name(this) => this == name,
            Glob::Start(start) => name.starts_with(start),
            Glob::Wild(glob) => glob.matches(name),
        }
    }
}

impl Pattern {
    /// Reads a pattern.
    pub fn parse(text: &str) -> Result<Self, AddressError> {
        let parts = Parts::split(text)?;
        if let Some((at, _)) = parts.delivery {
            return Err(mistake(text, at, "a pattern has no delivery"));
        }
        let glob = |part: Option<(usize, &str)>| match part {
            None => Ok(None),
            Some((at, part)) => {
                let wrong = part.char_indices().find(|&(_, c)| !is_name_char(c) && !"*?".contains(c));
                match wrong {
                    Some((inside, _)) => {
                        let reason = "patterns are made of a-z, 0-9, `_`, `-`, `*` and `?`";
                        Err(mistake(text, at + inside, reason))
                    }
                    None => Ok(Some(Glob::new(part))),
                }
            }
        };
        Ok(Self {
            text: text.to_owned(),
            owner: glob(parts.owner)?,
            instance: glob(parts.instance)?,
            entry: glob(parts.entry)?,
            field: glob(parts.field)?,
            stage: glob(parts.stage)?,
        })
    }

    /// Whether the pattern names stages.
    pub fn has_stage(&self) -> bool {
        self.stage.is_some()
    }

    /// Whether the pattern names units, or `shared`.
    pub fn has_owner(&self) -> bool {
        self.owner.is_some()
    }

    /// Whether the pattern names entries.
    pub fn has_entry(&self) -> bool {
        self.entry.is_some()
    }

    /// Whether the owner is covered: a unit's name or `shared`, and the instance if there is one.
    pub fn covers_owner(&self, owner: &str, instance: Option<&str>) -> bool {
        let instance_covered = match (&self.instance, instance) {
            (None, _) => true,
            (Some(_), None) => false,
            (Some(glob), Some(name)) => glob.matches(name),
        };
        instance_covered && self.owner.as_ref().is_none_or(|glob| glob.matches(owner))
    }

    /// Whether the entry and field are covered; a variable's field is `None`.
    pub fn covers_field(&self, entry: &str, field: Option<&str>) -> bool {
        let field_covered = match (&self.field, field) {
            (None, _) => true,
            (Some(_), None) => false,
            (Some(glob), Some(name)) => glob.matches(name),
        };
        field_covered && self.entry.as_ref().is_none_or(|glob| glob.matches(entry))
    }

    /// Whether an address is covered; what it leaves out counts as nothing in particular.
    pub fn covers(&self, address: &Address) -> bool {
        let owner = address.owner.as_ref().is_none_or(|owner| {
            let (name, instance) = owner.names();
            self.covers_owner(name, instance)
        });
        let field = match &address.entry {
            Some(entry) => self.covers_field(entry.as_str(), address.field.as_ref().map(Name::as_str)),
            None => self.entry.is_none(),
        };
        let stage = match &address.stage {
            Some(stage) => self.covers_stage(stage.as_str()),
            None => self.stage.is_none(),
        };
        owner && field && stage
    }

    /// Whether the stage (or group, where a setting is meant) is covered.
    pub fn covers_stage(&self, stage: &str) -> bool {
        self.stage.as_ref().is_none_or(|glob| glob.matches(stage))
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_left_out_cover_everything() {
        type Case =
            (&'static str, &'static str, Option<&'static str>, &'static str, Option<&'static str>, bool);
        let cases: [Case; 17] = [
            ("ticket-desk", "ticket-desk", Some("kiosk"), "seat_hold", None, true),
            ("ticket-desk+k*", "ticket-desk", Some("kiosk"), "seat_hold", None, true),
            ("ticket-desk+*", "ticket-desk", None, "seat_hold", None, false),
            ("*", "shared", None, "mail", Some("host"), true),
            ("shared/*", "shared", None, "mail", Some("host"), true),
            ("shared/*", "ticket-desk", None, "mail", Some("host"), false),
            ("shared/*.host", "shared", None, "mail", Some("port"), false),
            ("*/mail.*", "shared", None, "mail", Some("port"), true),
            ("*/region", "ticket-desk", None, "region", None, true),
            ("*/region.*", "ticket-desk", None, "region", None, false),
            ("*/r?gion", "ticket-desk", None, "region", None, true),
            ("*/r?gion", "ticket-desk", None, "rgion", None, false),
            ("t*k/*-db", "ticket-desk", None, "bookings-db", Some("host"), true),
            ("*/mail*", "ticket-desk", None, "mail", None, true),
            ("*/mail*", "ticket-desk", None, "email", None, false),
            ("*/m*l*", "ticket-desk", None, "mails", None, true),
            ("@test", "ticket-desk", None, "region", None, true),
        ];
        for (pattern, owner, instance, entry, field, covered) in cases {
            let read = Pattern::parse(pattern).unwrap();
            let found = read.covers_owner(owner, instance) && read.covers_field(entry, field);
            assert_eq!(found, covered, "{pattern} on {owner}/{entry}");
        }
        assert!(Pattern::parse("*@prod-*").unwrap().covers_stage("prod-north"));
        assert!(!Pattern::parse("*@prod-*").unwrap().covers_stage("test"));
    }

    #[test]
    fn a_bad_pattern_is_refused_where_the_mistake_is() {
        for (text, at) in [("", 0), ("a/", 2), ("*/x.*@prod:3", 11), ("a b", 1), ("*/[ab]", 2)] {
            assert_eq!(Pattern::parse(text).unwrap_err().at, at, "{text}");
        }
    }
}
