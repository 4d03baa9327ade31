//! `cledger`: keeps, checks, renders and compares the configuration of units across their stages.

mod app;
mod cli;
mod commands;
mod complete;
mod conditions;
mod declared;
mod deferred;
mod demo;
mod examples;
mod exit;
mod explanations;
mod globals;
mod manual;
mod memory;
mod options;
mod output;
mod schema;
mod terminal;
mod trade_words;

use std::process::ExitCode;

use mimalloc::MiMalloc;
use zeroizing_alloc::ZeroAlloc;

// Reading a large ledger makes and drops many small values on all threads at once. Whatever is given back is
// overwritten, also when a text grows: secrets pass through libraries that know nothing of them.
#[global_allocator]
static ALLOCATOR: ZeroAlloc<MiMalloc> = ZeroAlloc(MiMalloc);

fn main() -> ExitCode {
    cli::run(std::env::args_os())
}
