//! The view, drawn into a buffer and in a terminal of its own.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

mod looker;
mod screens;
