//! Stages, their classes, groups and follows.

use std::collections::BTreeMap;

use super::{GroupId, StageId};
use crate::address::Pattern;
use crate::model::{Chore, FormerName};
use crate::name::Name;
use crate::source::Place;

/// What a stage is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Class {
    /// For those who write the units.
    Development,
    /// For trying them out.
    Test,
    /// For those who depend on them.
    Production,
}

impl Class {
    /// The classes with their names.
    pub const ALL: [(Class, &'static str); 3] =
        [(Class::Development, "development"), (Class::Test, "test"), (Class::Production, "production")];

    /// The name in `ledger.toml`.
    pub fn name(self) -> &'static str {
        match self {
            Class::Development => "development",
            Class::Test => "test",
            Class::Production => "production",
        }
    }
}

/// One environment that units are delivered to.
#[derive(Debug, Clone)]
pub struct Stage {
    /// Its name.
    pub name: Name,
    /// The names that it had before, the latest last.
    pub formerly: Vec<FormerName>,
    /// What it is for.
    pub class: Class,
    /// Its groups, weakest first.
    pub groups: Vec<GroupId>,
    /// The stages that come before it.
    pub after: Vec<StageId>,
    /// Whether its settings change only by promotion or with a stated reason.
    pub locked: bool,
    /// Whether what is not meant to differ must be as it was delivered to the stages before.
    pub as_tested: bool,
    /// What promotion never carries into it.
    pub own: Vec<Pattern>,
    /// Texts for `${stage.label.X}`.
    pub labels: BTreeMap<Name, String>,
    /// The stages that it follows, weakest first.
    pub follows: Vec<Follow>,
    /// What a person must do around each delivery to it.
    pub chores: Vec<Chore>,
    /// Its name in `ledger.toml`.
    pub place: Place,
}

/// One stage followed by another.
#[derive(Debug, Clone)]
pub struct Follow {
    /// The stage that is followed.
    pub stage: StageId,
    /// If not empty, only what one of these covers is followed.
    pub only: Vec<Pattern>,
    /// What one of these covers is not followed.
    pub except: Vec<Pattern>,
    /// Where it is declared.
    pub place: Place,
}

/// What a follow says of the settings of one unit or instance, or of the shared ones.
#[derive(Debug)]
pub struct FollowOf<'f> {
    /// What alone is followed, if the follow says so.
    only: Option<Vec<&'f Pattern>>,
    except: Vec<&'f Pattern>,
}

impl Follow {
    /// What it says of the settings that are written under this owner.
    pub fn of_owner(&self, (owner, instance): (&str, Option<&str>)) -> FollowOf<'_> {
        let is_about = |pattern: &&Pattern| pattern.covers_owner(owner, instance);
        FollowOf {
            only: (!self.only.is_empty()).then(|| self.only.iter().filter(is_about).collect()),
            except: self.except.iter().filter(is_about).collect(),
        }
    }
}

impl FollowOf<'_> {
    /// Whether a setting for this field is followed; a variable's field is `None`.
    pub fn lets_through(&self, entry: &str, field: Option<&str>) -> bool {
        let covers = |patterns: &[&Pattern]| patterns.iter().any(|it| it.covers_field(entry, field));
        self.only.as_ref().is_none_or(|only| covers(only)) && !covers(&self.except)
    }
}

/// A named set of settings that several stages share.
#[derive(Debug, Clone)]
pub struct Group {
    /// Its name.
    pub name: Name,
    /// What it is for, in its maintainers' words.
    pub about: Option<String>,
}

/// The stages where an output is, or something else of a contract.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SomeStages {
    /// The patterns, as they are written.
    pub said: Vec<String>,
    /// For each stage, whether one of them covers it.
    pub covered: Vec<bool>,
}

impl SomeStages {
    /// Whether a stage is one of them.
    pub fn is_in(&self, stage: StageId) -> bool {
        self.covered.get(usize::from(stage.0)).copied().unwrap_or(false)
    }

    /// Whether a stage is one of both.
    pub fn meets(&self, other: &Self) -> bool {
        self.covered.iter().zip(&other.covered).any(|(one, other)| *one && *other)
    }
}
