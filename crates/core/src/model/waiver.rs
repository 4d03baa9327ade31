//! Waivers: findings and differences that are accepted, with a reason and a last day.

use jiff::civil::Date;

use crate::address::Pattern;
use crate::findings::Code;
use crate::source::Place;

/// What a waiver is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Waived {
    /// Findings of this code.
    Finding(Code),
    /// What has drifted.
    Drift,
}

impl Waived {
    /// The word for drift among the codes.
    pub const DRIFT: &str = "drift";

    /// The code as it is written.
    pub fn name(self) -> &'static str {
        match self {
            Waived::Finding(code) => code.name(),
            Waived::Drift => Self::DRIFT,
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
