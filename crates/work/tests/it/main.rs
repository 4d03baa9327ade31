//! Use cases on small ledgers in temporary folders, with answers from tables.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

mod browsing;
mod bundles;
mod captured_ledger;
mod copied;
#[path = "../../../outlets/tests/it/database.rs"]
mod database;
mod delivering;
mod folios;
mod guarding;
mod interleaved;
mod interrupted;
mod judging;
mod opening;
mod overwriting;
mod putting_back;
mod quay;
#[path = "../../../store/tests/it/random.rs"]
#[expect(dead_code, reason = "what only the resolver's tests need")]
mod random;
mod random_ledgers;
mod renaming;
mod second_front_end;
mod setting;
mod signed;
mod taking_back;
mod to_do;
mod workplaces;
#[path = "../../../store/tests/it/written.rs"]
mod written;
