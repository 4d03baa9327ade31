//! The store's tests: reading ledgers, and resolving what was read.

#![expect(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod again;
mod agreement;
#[path = "../../../outlets/tests/it/database.rs"]
mod database;
mod daybook;
mod effects;
mod forms;
mod keys;
mod lazily;
mod naive;
mod random;
mod readers;
mod written;
