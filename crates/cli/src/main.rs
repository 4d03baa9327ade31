//! `cledger`: keeps, checks, renders and compares the configuration of units across their stages.

mod app;
mod cli;
mod commands;
mod complete;
mod conditions;
mod exit;
mod explanations;
mod globals;
mod memory;
mod options;
mod output;
mod schema;
mod terminal;
mod trade_words;

use std::process::ExitCode;

use mimalloc::MiMalloc;

// Reading a large ledger makes and drops many small values on all threads at once.
#[global_allocator]
static ALLOCATOR: MiMalloc = MiMalloc;

fn main() -> ExitCode {
    cli::run(std::env::args_os())
}
