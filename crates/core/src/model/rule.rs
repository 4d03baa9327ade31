//! Rules of the ledger's own: what must hold for fields beyond their declarations.

use regex::Regex;

use super::{Class, StageId};
use crate::address::Pattern;
use crate::findings::Severity;
use crate::name::Name;
use crate::source::Place;
use crate::types::Type;
use crate::value::Value;

/// What a rule demands of the fields that it covers.
#[derive(Debug, Clone)]
pub enum Demand {
    /// The value is one of these.
    OneOf(Vec<Value>),
    /// The value is none of these.
    NotOneOf(Vec<Value>),
    /// The text matches this somewhere.
    Matches(Regex),
    /// The text matches this nowhere.
    MatchesNot(Regex),
    /// The value is at least this, read as its own type.
    Min(Value),
    /// The value is at most this, read as its own type.
    Max(Value),
    /// The text has at most so many characters.
    MaxLength(usize),
    /// The value is the same in these stages.
    EqualIn(Vec<StageId>),
    /// No two of these stages have the same value.
    DistinctIn(Vec<StageId>),
    /// No two fields have the same value in a stage.
    UniqueInStage,
    /// There is a value wherever a field that this covers, of the same unit, has one.
    PresentWith(Pattern),
    /// There is no value in these stages.
    AbsentIn(Vec<StageId>),
    /// The stage states it itself: no default counts, no group, and nothing that is followed.
    Stated,
}

/// That another field of the same unit or instance has a value in the stage.
#[derive(Debug, Clone)]
pub struct Condition {
    /// Its entry.
    pub entry: Name,
    /// Which of its fields; a variable's has no name.
    pub field: Option<Name>,
    /// The value.
    pub is: Value,
}

/// A rule of the ledger's own.
#[derive(Debug, Clone)]
pub struct Rule {
    /// Its name.
    pub name: Name,
    /// The fields that it covers.
    pub fields: Vec<Pattern>,
    /// Only those of these types; of all if there are none.
    pub types: Vec<Type>,
    /// Only those of entries of these kinds; of all if there are none.
    pub kinds: Vec<String>,
    /// Only where this is so.
    pub when: Option<Condition>,
    /// Only in stages of these classes; in all if there are none.
    pub classes: Vec<Class>,
    /// Only in these stages; in all if there are none.
    pub stages: Vec<Pattern>,
    /// What it demands; all of it.
    pub demands: Vec<Demand>,
    /// How bad it is to break it.
    pub severity: Severity,
    /// Why it is there.
    pub why: Option<String>,
    /// What to do where it is broken.
    pub help: Option<String>,
    /// Its name in `ledger.toml`.
    pub place: Place,
}

impl Rule {
    /// Whether it compares units: no two of its fields may have the same value in a stage.
    pub fn compares_units(&self) -> bool {
        self.demands.iter().any(|demand| matches!(demand, Demand::UniqueInStage))
    }
}
