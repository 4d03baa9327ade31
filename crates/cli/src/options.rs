//! Options that several commands share.

use std::io::{IsTerminal as _, Read as _};

use clap::{Args, ValueEnum};
use cledger_core::address::Address;
use cledger_core::model::{Class, Ledger, Stage, StageId};
use cledger_core::name::Name;
use cledger_core::resolve::Assumption;
use cledger_store::{LARGEST_SECRET, without_final_newline};

use crate::change::{HANDS_OUT, countersigned};
use crate::error::CliError;

/// Values given for this run.
#[derive(Debug, Args)]
pub(crate) struct AssumeOptions {
    /// Take this value for a field, stronger than every setting (ADDRESS=VALUE; for a secret the
    /// ADDRESS alone, with --stdin)
    #[arg(long, value_name = "ADDRESS[=VALUE]")]
    assume: Vec<String>,
    /// Read the value of the one --assume that has none from standard input
    #[arg(long)]
    stdin: bool,
}

impl AssumeOptions {
    /// The addresses of all assumptions.
    pub(crate) fn addresses(&self) -> Result<Vec<Address>, CliError> {
        let address = |text: &String| {
            Address::parse(text.split_once('=').map_or(text.as_str(), |(address, _)| address))
        };
        Ok(self.assume.iter().map(address).collect::<Result<_, _>>()?)
    }

    /// The assumptions, weakest first. Where an address names no stage, `stage` is meant.
    pub(crate) fn read(&self, ledger: &Ledger, stage: StageId) -> Result<Vec<Assumption>, CliError> {
        let without = self.assume.iter().filter(|text| !text.contains('=')).count();
        if without > 1 || (self.stdin && without == 0) {
            let message = "--stdin gives the value of exactly one --assume that has none";
            return Err(CliError::usage(message));
        }
        let mut assumptions = Vec::new();
        for (text, address) in self.assume.iter().zip(self.addresses()?) {
            let assumption = match text.split_once('=') {
                Some((_, value)) => {
                    let assumption = Assumption::new(ledger, &address, value, stage)?;
                    if assumption.is_secret() {
                        let message = format!(
                            "`{address}` is a secret: an argument can be seen by others on this machine"
                        );
                        return Err(CliError::refused(message).help(format!("--assume {address} --stdin")));
                    }
                    assumption
                }
                None if self.stdin => Assumption::new(ledger, &address, &standard_input()?, stage)?,
                None => {
                    let message = format!("--assume {address} has no value");
                    return Err(CliError::usage(message).help("write ADDRESS=VALUE, or add --stdin"));
                }
            };
            assumptions.push(assumption);
        }
        assumptions.sort_by_key(Assumption::strength);
        Ok(assumptions)
    }
}

/// All of standard input, one final newline dropped; no more than a secret can have.
pub(crate) fn standard_input() -> Result<zeroize::Zeroizing<String>, CliError> {
    // Room enough for most: text that moves leaves a copy behind.
    let mut text = zeroize::Zeroizing::new(String::with_capacity(1 << 16));
    std::io::stdin()
        .take(LARGEST_SECRET + 1)
        .read_to_string(&mut text)
        .map_err(|error| CliError::outside(format!("standard input cannot be read: {error}")))?;
    if text.len() as u64 > LARGEST_SECRET {
        return Err(CliError::usage("what came in is larger than 1 MiB, which no secret is"));
    }
    Ok(without_final_newline(text))
}

/// Whether the secrets of a production stage may be handed out.
#[derive(Debug, Args)]
pub(crate) struct HandOutOptions {
    /// Say which production stage is meant, by its name; asked for where secrets of it are handed out
    #[arg(long, value_name = "STAGE", value_delimiter = ',')]
    countersign: Vec<Name>,
}

impl HandOutOptions {
    /// Refuses to hand out secrets of a production stage that nobody has countersigned.
    pub(crate) fn grant(&self, stage: &Stage, holds_secrets: bool) -> Result<(), CliError> {
        if holds_secrets { countersigned(&[stage], &self.countersign, HANDS_OUT) } else { Ok(()) }
    }
}

/// When secrets are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Unmask {
    /// On a terminal.
    Terminal,
    /// Also in a pipe or file.
    Always,
}

/// Whether secrets are shown.
#[derive(Debug, Args)]
pub(crate) struct UnmaskOptions {
    /// Show secrets on a terminal; with =always also in a pipe or file
    #[arg(long, value_name = "WHEN", num_args = 0..=1, require_equals = true, default_missing_value = "terminal")]
    unmask: Option<Unmask>,
    /// Say which production stage is meant, by its name
    #[arg(long, value_name = "STAGE")]
    countersign: Option<Name>,
}

impl UnmaskOptions {
    /// Whether secrets of this stage are shown; an error where that is asked for and not granted.
    pub(crate) fn granted(&self, ledger: &Ledger, stage: StageId) -> Result<bool, CliError> {
        let Some(unmask) = self.unmask else { return Ok(false) };
        let stage = ledger.stage(stage);
        if unmask == Unmask::Terminal && !std::io::stdout().is_terminal() {
            let message = "secrets are not shown here: standard output is not a terminal";
            return Err(CliError::refused(message).help("if that is meant, write --unmask=always"));
        }
        if stage.class == Class::Production && self.countersign.as_ref() != Some(&stage.name) {
            let message = format!(
                "secrets of `{}`, a production stage, are not shown without countersigning",
                stage.name
            );
            return Err(CliError::refused(message).help(format!("add --countersign {}", stage.name)));
        }
        Ok(true)
    }
}
