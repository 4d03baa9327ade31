//! What is outside of a ledger: the outlets of its stages, and the services that units talk to.
//!
//! [`read_back`] reads what outlets hold, [`probe`] tries services; both many at once, and each within a
//! time limit. [`mod@file`] reads files that somebody else has written.

pub mod file;
pub mod probe;
pub mod read_back;
