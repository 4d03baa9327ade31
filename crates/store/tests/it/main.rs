//! The store's tests: reading ledgers, and resolving what was read.

#![expect(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod agreement;
mod keys;
mod naive;
mod random;
mod written;
