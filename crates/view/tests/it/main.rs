//! The view, drawn into a buffer and in a terminal of its own.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

mod ends;
mod looker;
#[expect(dead_code, reason = "what only the tests of the program need")]
mod pty;
mod screens;
