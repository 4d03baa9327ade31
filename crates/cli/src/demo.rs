//! The demo: made-up files, a pretend live system, and a walk through the work.

pub(crate) mod files;
pub(crate) mod go_on;
pub(crate) mod stand_in;
pub(crate) mod walk;
