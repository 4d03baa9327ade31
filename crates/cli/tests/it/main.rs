//! What a user sees: the built program, run on files in a folder of its own.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]
#![expect(clippy::too_many_lines, reason = "a snapshot is as long as what it holds")]
#![expect(clippy::needless_raw_string_hashes, reason = "snapshots are written by a program")]

mod add;
mod adopt;
mod against;
mod aged;
mod bad_input;
mod beside;
mod browse;
mod browser;
mod check;
mod compare;
#[path = "../../../work/tests/it/copied.rs"]
mod copied;
#[path = "../../../outlets/tests/it/database.rs"]
mod database;
mod database_killed;
mod declare;
mod deliver;
mod delivered;
mod demo;
mod documents;
mod drift;
mod fill;
mod forms;
mod guards;
mod hostile;
mod init;
mod judged;
mod keys;
mod killed;
mod legacy;
mod list;
mod listed_documents;
mod live_units;
#[path = "../../../outlets/tests/it/mariadb.rs"]
mod mariadb;
mod outlets;
mod outputs;
mod probe;
#[path = "../../../view/tests/it/pty.rs"]
mod pty;
mod put;
mod rehome;
#[path = "../../../outlets/tests/it/relay.rs"]
mod relay;
mod remove;
mod rename;
mod render;
mod report;
mod rows;
mod run;
mod schema;
mod search;
mod secrecy;
mod secrets;
mod set;
mod share;
mod show;
mod stages;
mod tables;
mod taken;
mod test_ledger;
mod trust;
mod understand;
