//! What is common to the yardstick ledgers, which are made from a seed: units × stages × fields, in folder form.

use fastrand::Rng;

/// What stands in a ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Shape {
    /// Shared connections, a group, an endpoint and variables; a tenth of the units refers to another one.
    Plain,
    /// Groups, follows with exceptions, instances, tables, chains of references across units and of shared text, rules,
    /// and mistakes.
    Real,
    /// The same where nobody has made a mistake.
    RealWithoutMistakes,
}

/// The measure of a ledger.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Measure {
    pub(crate) shape: Shape,
    pub(crate) units: usize,
    pub(crate) stages: usize,
    pub(crate) fields: usize,
}

impl Measure {
    /// How many effective values there are.
    pub(crate) fn values(self) -> usize {
        self.units * self.stages * self.fields
    }
}

/// The name of a stage by its number; the last two are of class production.
pub(crate) fn stage_name(number: usize) -> String {
    format!("stage-{number}")
}

/// The class of a stage by its number, of so many.
pub(crate) fn class(number: usize, stages: usize) -> &'static str {
    match number {
        0 => "development",
        _ if number + 2 < stages => "test",
        _ => "production",
    }
}

/// Eight letters.
pub(crate) fn word(random: &mut Rng) -> String {
    (0..8).map(|_| random.lowercase()).collect()
}
