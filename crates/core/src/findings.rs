//! Findings: what is wrong with the values of a ledger that can be read.
//!
//! [`check()`] goes through all units in parallel. What can be told from a setting where it stands is
//! told once, at the setting; what depends on the stage is told for the stage. Each family of
//! findings has its own file, which says what is found and how to mend it.

mod aligned;
mod bounds;
mod broken_files;
mod certificates;
mod check;
mod checking;
mod code;
mod defaults;
mod distinct;
mod due;
mod effective;
mod expiry;
mod finding;
mod follows_secret;
mod hosts;
mod idle_patterns;
mod in_no_output;
mod judged;
mod mentions;
mod missing;
mod names;
mod other_stage;
mod outputs;
mod plain;
mod probes;
mod rules;
mod spots;
mod stages;
mod standing;
mod tables;
mod through;
mod values;
mod waivers;

pub use broken_files::not_judged;
pub use check::{check, is_of_units};
pub use code::{Code, Severity};
pub use due::mark_due;
pub(crate) use effective::has_gaps;
pub use effective::of_field;
pub use finding::Finding;
pub use judged::gate;
pub(crate) use outputs::no_label;
pub use plain::plain_secrets;
pub use standing::{Report, Standing, UnitStanding};
pub(crate) use tables::of_field as of_rows;
pub use through::{check_both, check_patterns, check_rules, check_units};
