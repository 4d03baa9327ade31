//! New stages, groups, units, instances and entries.
//!
//! Adding something changes no effective value that was there; what writes settings of a production stage is countersigned
//! all the same.

pub mod entry;
mod like;
pub mod new_unit;
pub mod stage;
pub mod unit;

mod added;

pub use added::Added;
