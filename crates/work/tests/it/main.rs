//! Use cases on small ledgers in temporary folders, with answers from tables.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

mod copied;
#[path = "../../../outlets/tests/it/database.rs"]
mod database;
mod delivering;
mod guarding;
mod interleaved;
mod interrupted;
mod judging;
mod opening;
mod overwriting;
mod quay;
mod renaming;
mod second_front_end;
mod setting;
mod workplaces;
