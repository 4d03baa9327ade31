//! What is outside of a ledger: the services that units talk to.
//!
//! [`probe`] tries them, read-only and each within a time limit.

pub mod probe;
