//! `cledger`: keeps, checks, renders and compares the configuration of units across their stages.

mod app;
mod cli;
mod commands;
mod error;
mod options;
mod output;
mod trade_words;

use std::process::ExitCode;

fn main() -> ExitCode {
    cli::run(std::env::args_os())
}
