//! Use cases on small ledgers in temporary folders, with answers from tables.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

mod copied;
mod delivering;
mod guarding;
mod interrupted;
mod opening;
mod overwriting;
mod second_front_end;
mod setting;
mod workplaces;
