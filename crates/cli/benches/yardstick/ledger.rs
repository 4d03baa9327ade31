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

/// What a variable's declaration says, by its number.
pub(crate) fn declared(number: usize) -> &'static str {
    match number % 5 {
        0 => "type = \"integer\"\nmin = 0\nmax = 100000\n",
        1 => "type = \"duration\"\ndefault = \"30s\"\n",
        2 => "about = \"What this unit is called by the others\"\n",
        3 => "type = \"boolean\"\ndefault = false\n",
        _ => "type = \"text\"\ndefault = \"${unit.name} in ${stage.name}\"\n",
    }
}

/// A variable's setting in a stage, by its number; some are left at their defaults.
pub(crate) fn set(random: &mut Rng, number: usize, stage: &str) -> String {
    match number % 5 {
        0 => format!("value-{number} = {}\n", random.u32(..100_000)),
        1 => format!("value-{number} = \"{}s\"\n", random.u8(1..)),
        2 => format!("value-{number} = \"{} of {stage}\"\n", word(random)),
        3 => format!("value-{number} = {}\n", random.bool()),
        _ => String::new(),
    }
}

/// The settings of an endpoint and a connection in a stage.
pub(crate) fn entries(random: &mut Rng, base: &str, stage: &str) -> String {
    format!(
        "\n[next]\nbase = \"{base}\"\ntimeout = \"{}s\"\n# The proxy is the same for the whole stage.\n\
         proxy = \"http://proxy.{stage}.yardstick.example:3128\"\n\n[store]\ndatabase = \"{}\"\n\
         options = {{ sslmode = \"require\", application_name = \"{}\" }}\n",
        random.u8(1..),
        word(random),
        word(random)
    )
}
