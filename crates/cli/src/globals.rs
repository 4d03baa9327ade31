//! Options that every command takes.

use std::path::PathBuf;

use clap::{ArgAction, Args, ColorChoice};

/// Options that every command takes.
#[derive(Debug, Args)]
pub(crate) struct Globals {
    /// The ledger's folder [default: the nearest one upwards with a ledger.toml]
    #[arg(short = 'C', long, global = true, value_name = "DIR", help_heading = "Everywhere")]
    pub(crate) ledger: Option<PathBuf>,
    /// Print one JSON document and nothing else
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub(crate) json: bool,
    /// Use colour; `NO_COLOR` is honoured
    #[arg(
        long,
        global = true,
        value_name = "WHEN",
        default_value = "auto",
        hide_default_value = true,
        help_heading = "Everywhere"
    )]
    pub(crate) color: ColorChoice,
    /// Let the ledger reach what it names for this run, as after `cledger trust`
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub(crate) trust: bool,
    /// Print no notices
    #[arg(short, long, global = true, help_heading = "Everywhere")]
    pub(crate) quiet: bool,
    /// Say more about what is done
    #[arg(short, long, global = true, action = ArgAction::Count, help_heading = "Everywhere")]
    pub(crate) verbose: u8,
}
