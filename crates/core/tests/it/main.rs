//! The rules of the core, on small ledgers in memory.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

mod compare;
mod deliveries;
mod effects;
mod fate;
mod findings;
mod hanging;
mod ledgers;
mod probes;
mod render;
mod secrecy;
mod shared_text;
