//! What a user sees: the built program, run on files in a folder of its own.

#![expect(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod bad_input;
mod check;
mod compare;
mod demo;
mod documents;
mod drift;
mod init;
mod list;
mod render;
mod secrets;
mod show;
mod test_ledger;
