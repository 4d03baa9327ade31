//! `cledger`: keeps, checks, renders and compares the configuration of units across their stages.

mod against;
mod app;
mod change;
mod cli;
mod commands;
mod complete;
mod conditions;
mod daybook;
mod error;
mod existing;
mod explanations;
mod granted;
mod memory;
mod options;
mod output;
mod place;
mod reality;
mod rendered;
mod schema;
mod secrets;
mod setting;
mod trade_words;

use std::process::ExitCode;

use mimalloc::MiMalloc;

// Reading a large ledger makes and drops many small values on all threads at once.
#[global_allocator]
static ALLOCATOR: MiMalloc = MiMalloc;

fn main() -> ExitCode {
    cli::run(std::env::args_os())
}
