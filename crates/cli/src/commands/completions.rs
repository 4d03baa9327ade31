//! `cledger completions`: what a shell needs to complete commands, options and addresses.

use clap::{Args, ValueEnum};
use clap_complete::env::{Bash, EnvCompleter, Fish, Zsh};

use cledger_work::Trouble;

use crate::app::App;
use crate::complete::COMPLETE_VARIABLE;
use crate::exit;

#[derive(Debug, Args)]
pub(crate) struct CompletionsArgs {
    /// The shell; its start-up file should say: source <(cledger completions bash)
    shell: Shell,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Shell {
    Bash,
    Zsh,
    Fish,
}

pub(crate) fn run(args: &CompletionsArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let completer: &dyn EnvCompleter = match args.shell {
        Shell::Bash => &Bash,
        Shell::Zsh => &Zsh,
        Shell::Fish => &Fish,
    };
    let mut script = Vec::new();
    completer
        .write_registration(COMPLETE_VARIABLE, "cledger", "cledger", "cledger", &mut script)
        .map_err(|error| Trouble::outside(format!("the script cannot be made: {error}")))?;
    app.console.raw(&String::from_utf8_lossy(&script));
    Ok(exit::CLEAN)
}
