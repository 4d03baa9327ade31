//! New stages, groups, units, instances and entries.
//!
//! Adding something changes no effective value that was there, so that no reason and no countersign is needed.

pub mod entry;
pub mod stage;
pub mod unit;

mod added;

pub use added::Added;
