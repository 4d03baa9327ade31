//! Waivers: findings and differences that are accepted, with a reason and a last day.

use std::borrow::Cow;

use jiff::civil::Date;

use crate::address::Pattern;
use crate::findings::{Code, Finding};
use crate::name::Name;
use crate::source::Place;

/// What a waiver is about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Waived {
    /// Findings of this code.
    Finding(Code),
    /// What breaks the rule of this name.
    Rule(Name),
    /// What has drifted.
    Drift,
}

impl Waived {
    /// The word for drift among the codes.
    pub const DRIFT: &str = "drift";

    /// What stands before the name of a rule.
    pub const RULE: &str = "rule:";

    /// The code as it is written.
    pub fn name(&self) -> Cow<'static, str> {
        match self {
            Waived::Finding(code) => Cow::Borrowed(code.name()),
            Waived::Rule(rule) => Cow::Owned(format!("{}{rule}", Self::RULE)),
            Waived::Drift => Cow::Borrowed(Self::DRIFT),
        }
    }

    /// Whether a finding is what is meant. The code `rule` alone means those of all rules.
    pub fn is_about(&self, finding: &Finding) -> bool {
        match self {
            Waived::Finding(code) => finding.code == *code,
            Waived::Rule(rule) => finding.rule.as_ref() == Some(rule),
            Waived::Drift => false,
        }
    }
}

/// Something that is accepted for a while.
#[derive(Debug, Clone)]
pub struct Waiver {
    /// What.
    pub what: Waived,
    /// Where, with or without a stage.
    pub pattern: Pattern,
    /// Why.
    pub why: String,
    /// The last day on which it counts.
    pub until: Date,
    /// Who agreed.
    pub by: Option<String>,
    /// Its table in `waivers.toml`.
    pub place: Place,
}

impl Waiver {
    /// Whether it still counts on a day.
    pub fn counts_on(&self, today: Option<Date>) -> bool {
        today.is_none_or(|today| today <= self.until)
    }
}
