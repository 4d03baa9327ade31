//! What a contract says of one field.

use std::sync::Arc;

use compact_str::CompactString;
use regex::Regex;

use crate::json::Json;
use crate::name::Name;
use crate::reference;
use crate::source::Place;
use crate::types::{Measure, Type};
use crate::value::{Held, Value};

/// Where a field's value may differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Vary {
    /// Nowhere: only the default counts.
    Never,
    /// Anywhere.
    May,
    /// Everywhere: each stage states its own.
    Must,
}

/// Which stages may not end with the same effective value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Distinct {
    /// Stages may have the same value.
    No,
    /// No two stages may.
    Stages,
    /// No two stages of different class may.
    Classes,
}

/// Whether a field must have a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Required {
    /// It must.
    Yes,
    /// It need not.
    No,
    /// It must where the entry's effective `auth` is one of these.
    WhenAuth(&'static &'static [&'static str]),
}

/// A declaration's default.
#[derive(Debug, Clone)]
pub struct Default {
    /// The value.
    pub value: Held,
    /// Whether it fits the declaration.
    pub verdict: super::Verdict,
    /// Where it stands; `None` where the field's kind or protocol gives it.
    pub place: Option<Place>,
}

/// The name of a field in outputs, where it is not made from the entry's and field's names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct OutputNames {
    /// For all formats.
    pub all: Option<String>,
    /// For single formats, by the format's name; stronger than `all`.
    pub by_format: Vec<(String, String)>,
}

impl OutputNames {
    /// Whether one of them refers to the stage or the unit.
    pub fn vary(&self) -> bool {
        let by_format = self.by_format.iter().map(|(_, name)| name);
        self.all.iter().chain(by_format).any(|name| reference::is_in(name))
    }
}

/// What a value must satisfy beyond its type.
#[derive(Debug, Clone, Default)]
pub struct Constraints {
    /// The only values allowed; empty for any.
    pub one_of: Vec<Value>,
    /// The least magnitude, and how it was written.
    pub min: Option<(Measure, CompactString)>,
    /// The greatest magnitude, and how it was written.
    pub max: Option<(Measure, CompactString)>,
    /// What text must match somewhere; anchor with `^` and `$` to match the whole.
    pub pattern: Option<Regex>,
    /// The greatest length of text, in characters.
    pub max_length: Option<usize>,
}

/// Which constraint a value breaks, with the words to say so.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rejection {
    /// `one_of`, `min`, `max`, `pattern` or `max_length`.
    pub constraint: &'static str,
    /// What the constraint asks for.
    pub asks: String,
}

impl PartialEq for Constraints {
    fn eq(&self, other: &Self) -> bool {
        let Self { one_of, min, max, pattern, max_length } = self;
        (one_of, min, max, max_length) == (&other.one_of, &other.min, &other.max, &other.max_length)
            && pattern.as_ref().map(Regex::as_str) == other.pattern.as_ref().map(Regex::as_str)
    }
}

impl Constraints {
    /// The first constraint that a value of the right type breaks.
    pub fn reject(&self, value: &Value, this: Type) -> Option<Rejection> {
        let broken = |constraint, asks| Some(Rejection { constraint, asks });
        if !self.one_of.is_empty() && !self.allows(value) {
            let listed: Vec<_> = self.one_of.iter().map(|v| v.to_text().to_string()).collect();
            return broken("one_of", format!("one of {}", listed.join(", ")));
        }
        let measure = Measure::of(value, this);
        if let (Some(measure), Some((min, written))) = (measure, &self.min)
            && measure < *min
        {
            return broken("min", format!("at least {written}"));
        }
        if let (Some(measure), Some((max, written))) = (measure, &self.max)
            && measure > *max
        {
            return broken("max", format!("at most {written}"));
        }
        let every = |test: &dyn Fn(&str) -> bool| match value {
            Value::Text(text) => test(text),
            Value::List(items) => items.iter().filter_map(Value::as_text).all(test),
            Value::Map(map) => map.values().filter_map(Value::as_text).all(test),
            _ => true,
        };
        if let Some(pattern) = &self.pattern
            && !every(&|text| pattern.is_match(text))
        {
            return broken("pattern", format!("a match of /{pattern}/"));
        }
        if let Some(most) = self.max_length
            && !every(&|text| text.chars().count() <= most)
        {
            return broken("max_length", format!("at most {most} characters"));
        }
        None
    }

    fn allows(&self, value: &Value) -> bool {
        match value {
            Value::List(items) => items.iter().all(|item| self.one_of.contains(item)),
            _ => self.one_of.contains(value),
        }
    }
}

/// One field of an entry.
#[derive(Debug, Clone)]
pub struct Declaration {
    /// Its name; `None` for a variable's one field.
    pub name: Option<Name>,
    /// Its type.
    pub this_type: Type,
    /// The weakest value.
    pub default: Option<Default>,
    /// Whether it must have a value.
    pub required: Required,
    /// Where it may differ.
    pub vary: Vary,
    /// Which stages may not agree on it.
    pub distinct: Distinct,
    /// Whether its values are secrets.
    pub secret: bool,
    /// What its values must satisfy beyond their type.
    pub constraints: Option<Box<Constraints>>,
    /// What it is for, in its developers' words.
    pub about: Option<Arc<str>>,
    /// Its names in outputs, where any is said: few are.
    said_names: Option<Box<OutputNames>>,
    /// Whether it is worked out from other fields and cannot be set.
    pub derived: bool,
    /// For a lookup table, where each of the default's rows stands, by key.
    pub rows: Box<[(CompactString, Place)]>,
    /// Where it is declared: its own table, or the entry's for a built-in one.
    pub place: Place,
}

impl Declaration {
    /// A field of the given type with nothing else said of it.
    pub fn plain(name: Option<Name>, this_type: Type, place: Place) -> Self {
        Self {
            name,
            this_type,
            default: None,
            required: Required::Yes,
            vary: Vary::May,
            distinct: Distinct::No,
            secret: false,
            constraints: None,
            about: None,
            said_names: None,
            derived: false,
            rows: [].into(),
            place,
        }
    }

    /// Its names in outputs.
    pub fn output_names(&self) -> &OutputNames {
        static NONE: OutputNames = OutputNames { all: None, by_format: Vec::new() };
        self.said_names.as_deref().unwrap_or(&NONE)
    }

    /// Gives it these names in outputs.
    pub fn set_output_names(&mut self, names: OutputNames) {
        self.said_names = Some(Box::new(names));
    }

    /// Whether settings and contracts are read against it as against the other: all is the same but its default, what it
    /// is about and where it stands.
    pub fn reads_as(&self, other: &Self) -> bool {
        let Self {
            name,
            this_type,
            default: _,
            required,
            vary,
            distinct,
            secret,
            constraints,
            about: _,
            said_names,
            derived,
            rows: _,
            place: _,
        } = self;
        (name, this_type, required, vary) == (&other.name, &other.this_type, &other.required, &other.vary)
            && (distinct, secret, derived) == (&other.distinct, &other.secret, &other.derived)
            && said_names == &other.said_names
            && constraints == &other.constraints
    }

    /// A value as the field holds it: JSON in one form, however it is written.
    #[must_use]
    pub fn as_held(&self, value: Value) -> Value {
        let json = value.as_text().filter(|_| self.this_type == Type::Json).map(Json::parse);
        match json {
            Some(Ok(json)) => Value::text(&json.to_string()),
            _ => value,
        }
    }

    /// How a value stands to the type and constraints.
    pub fn judge(&self, value: &Value) -> super::Verdict {
        use super::Verdict;
        if value.has_references() {
            return if self.this_type.may_fit(value) { Verdict::Open } else { Verdict::WrongType };
        }
        if !self.this_type.fits(value) {
            Verdict::WrongType
        } else if self.rejection(value).is_some() {
            Verdict::NotAllowed
        } else {
            Verdict::Fits
        }
    }

    /// The first constraint that a value of the right type breaks.
    pub fn rejection(&self, value: &Value) -> Option<Rejection> {
        self.constraints.as_ref()?.reject(value, self.this_type)
    }

    /// Whether two stages are meant to differ in this field.
    pub fn is_meant_to_differ(&self) -> bool {
        self.vary == Vary::Must || self.distinct != Distinct::No
    }
}
