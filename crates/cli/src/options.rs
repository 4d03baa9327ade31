//! Options that several commands share.

use std::cell::OnceCell;
use std::io::{IsTerminal as _, Read as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::{Args, ValueEnum};
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::model::{Ledger, StageId};
use cledger_core::name::Name;
use cledger_core::resolve::Assumption;
use cledger_store::{LARGEST_SECRET, Scope, text_named, without_final_newline};
use cledger_work::change::Consent;
use cledger_work::deliver::Edits;
use cledger_work::generated::{ALPHABET, generated};
use cledger_work::meant::scope_of;
use cledger_work::show::may_unmask;
use cledger_work::{Trouble, Workplace};
use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use zeroize::Zeroizing;

use crate::complete;

/// What becomes of what is at an outlet and is not ours.
#[derive(Debug, Args)]
pub(crate) struct EditOptions {
    /// Leave these names, fields or files as they are there, for this once (patterns; may be given again)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    leave: Vec<String>,
    /// Overwrite and delete what was edited by hand, or was there before; it is kept in the record
    #[arg(long)]
    overwrite_edits: bool,
}

impl EditOptions {
    pub(crate) fn edits(&self) -> Edits {
        Edits { leave: self.leave.clone(), overwrite: self.overwrite_edits }
    }
}

/// A time that somebody types: of the day and the minute at least, in UTC unless it has an offset.
pub(crate) fn moment(text: &str) -> Result<Timestamp, String> {
    if let Ok(moment) = text.parse() {
        return Ok(moment);
    }
    let has_time = text.contains(['T', 't', ' ']);
    let moment = text.parse::<DateTime>().ok().filter(|_| has_time);
    let moment = moment.and_then(|moment| TimeZone::UTC.to_timestamp(moment).ok());
    moment.ok_or_else(|| {
        "a time has a day and a minute: 2026-11-20T14:00, or 2026-11-20T14:00+01:00".to_owned()
    })
}

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
    fn addresses(&self) -> Result<Vec<Address>, Trouble> {
        let address = |text: &String| {
            Address::parse(text.split_once('=').map_or(text.as_str(), |(address, _)| address))
        };
        Ok(self.assume.iter().map(address).collect::<Result<_, _>>()?)
    }

    /// Reads the units that these addresses and the assumptions name.
    pub(crate) fn scope<'a>(
        &self,
        addresses: impl IntoIterator<Item = &'a Address>,
    ) -> Result<Scope, Trouble> {
        let all: Vec<Address> = addresses.into_iter().cloned().chain(self.addresses()?).collect();
        Ok(scope_of(&all))
    }

    /// The assumptions, weakest first. Where an address names no stage, `stage` is meant.
    pub(crate) fn read(&self, ledger: &Ledger, stage: StageId) -> Result<Vec<Assumption>, Trouble> {
        let without = self.assume.iter().filter(|text| !text.contains('=')).count();
        if without > 1 || (self.stdin && without == 0) {
            let message = "--stdin gives the value of exactly one --assume that has none";
            return Err(Trouble::usage(message));
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
                        return Err(Trouble::refused(message).help(format!("--assume {address} --stdin")));
                    }
                    assumption
                }
                None if self.stdin => Assumption::new(ledger, &address, &standard_input()?, stage)?,
                None => {
                    let message = format!("--assume {address} has no value");
                    return Err(Trouble::usage(message).help("write ADDRESS=VALUE, or add --stdin"));
                }
            };
            assumptions.push(assumption);
        }
        assumptions.sort_by_key(Assumption::strength);
        Ok(assumptions)
    }
}

/// All of standard input, one final newline dropped; no more than a secret can have.
pub(crate) fn standard_input() -> Result<Zeroizing<String>, Trouble> {
    // Room enough for most: text that moves leaves a copy behind.
    let mut text = Zeroizing::new(String::with_capacity(1 << 16));
    std::io::stdin()
        .take(LARGEST_SECRET + 1)
        .read_to_string(&mut text)
        .map_err(|error| Trouble::outside(format!("standard input cannot be read: {error}")))?;
    if text.len() as u64 > LARGEST_SECRET {
        return Err(Trouble::usage("what came in is larger than 1 MiB, which no secret is"));
    }
    Ok(without_final_newline(text))
}

/// Whether the secrets of a production stage may be handed out.
#[derive(Debug, Args)]
pub(crate) struct HandOutOptions {
    /// Say which production stage is meant, by its name; asked for where secrets of it are handed out
    #[arg(long, value_name = "STAGE", value_delimiter = ',')]
    pub(crate) countersign: Vec<Name>,
}

/// Whether a command does what it shows.
#[derive(Debug, Clone, Copy, Args)]
pub(crate) struct ActOptions {
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    /// Only show it, whatever else is given
    #[arg(long)]
    dry_run: bool,
}

impl ActOptions {
    /// Whether something is written.
    pub(crate) fn writes(self) -> bool {
        self.write && !self.dry_run
    }

    /// Whether nothing is written, whatever else is given.
    pub(crate) fn is_dry_run(self) -> bool {
        self.dry_run
    }

    /// The form in which answers stand; one that is not there yet only where it may be written.
    pub(crate) fn form(self, path: Option<&PathBuf>) -> Option<PathBuf> {
        path.filter(|path| !self.dry_run || path.exists()).cloned()
    }
}

/// How long to wait for others.
#[derive(Debug, Clone, Args)]
pub(crate) struct WaitOptions {
    /// Wait so long at most for somebody else who is changing the ledger
    #[arg(long, value_name = "DURATION", default_value = "10s", value_parser = duration_of)]
    wait: Duration,
}

impl WaitOptions {
    pub(crate) fn time(&self) -> Duration {
        self.wait
    }
}

/// A duration as in the ledger's files, such as `30s` or `1m30s`; a number alone counts seconds.
pub(crate) fn duration_of(text: &str) -> Result<Duration, String> {
    let seconds = text.parse().ok().map(Duration::from_secs);
    let duration = seconds.or_else(|| cledger_core::types::duration(text));
    duration.ok_or_else(|| "a duration is needed, such as 30s or 1m30s".to_owned())
}

/// Whether a command that acts at once only shows.
#[derive(Debug, Clone, Copy, Args)]
pub(crate) struct DryRunOptions {
    /// Only show what it would do, which needs no --countersign
    #[arg(long = "dry-run", id = "dry_run")]
    pub(crate) is_given: bool,
}

/// Options of commands that act at once.
#[derive(Debug, Clone, Args)]
pub(crate) struct AtOnceOptions {
    #[command(flatten)]
    pub(crate) dry_run: DryRunOptions,
    #[command(flatten)]
    pub(crate) wait: WaitOptions,
}

/// Options of what declares something new.
#[derive(Debug, Clone, Args)]
pub(crate) struct AddOptions {
    /// Do it although effective values change that are there; without, that is only shown
    #[arg(long)]
    pub(crate) write: bool,
    #[command(flatten)]
    pub(crate) dry_run: DryRunOptions,
    #[command(flatten)]
    pub(crate) change: ChangeOptions,
}

/// Options of every command that changes settings.
#[derive(Debug, Clone, Args)]
pub(crate) struct ChangeOptions {
    /// Say which production stages are meant, by their names
    #[arg(long, value_name = "STAGE", value_delimiter = ',')]
    countersign: Vec<Name>,
    /// The reason; needed for a locked stage
    #[arg(long, value_name = "TEXT")]
    why: Option<String>,
    #[command(flatten)]
    pub(crate) wait: WaitOptions,
}

impl ChangeOptions {
    /// What somebody says to the change.
    pub(crate) fn consent(&self) -> Consent {
        Consent { countersign: self.countersign.clone(), why: self.why.clone() }
    }
}

/// Where a secret comes from, if not from a hidden prompt.
#[derive(Debug, Args)]
pub(crate) struct SecretOptions {
    /// Read the value from standard input; for secrets
    #[arg(long, conflicts_with_all = ["file", "generate"])]
    stdin: bool,
    /// Read the value from a file, without its final newline; for secrets
    #[arg(long, value_name = "PATH", conflicts_with = "generate")]
    file: Option<PathBuf>,
    /// Make a secret of so many random characters
    #[arg(long, value_name = "LENGTH", num_args = 0..=1, require_equals = true, default_missing_value = "32")]
    generate: Option<usize>,
    /// The characters that --generate takes
    #[arg(long, value_name = "CHARACTERS", requires = "generate", default_value = ALPHABET, hide_default_value = true)]
    alphabet: String,
}

impl SecretOptions {
    /// Whether one of them is given.
    pub(crate) fn is_given(&self) -> bool {
        self.stdin || self.file.is_some() || self.generate.is_some()
    }

    /// The text that they give for one of several settings: what is read is the same for all, what is made is another
    /// one for each.
    pub(crate) fn text_for_several(
        &self,
        once: &OnceCell<Zeroizing<String>>,
    ) -> Result<Zeroizing<String>, Trouble> {
        if self.generate.is_some() {
            return self.text();
        }
        if let Some(text) = once.get() {
            return Ok(text.clone());
        }
        let text = self.text()?;
        Ok(once.get_or_init(|| text).clone())
    }

    /// The text that they give.
    pub(crate) fn text(&self) -> Result<Zeroizing<String>, Trouble> {
        match (&self.file, self.generate) {
            (Some(path), _) => from_file(path),
            (None, Some(length)) => generated(length, &self.alphabet),
            (None, None) => standard_input(),
        }
    }
}

fn from_file(path: &Path) -> Result<Zeroizing<String>, Trouble> {
    let text = text_named(path, LARGEST_SECRET).map(Zeroizing::new);
    let text = text.map_err(|error| Trouble::usage(format!("`{}`: {error}", path.display())))?;
    Ok(without_final_newline(text))
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
    pub(crate) fn granted(&self, ledger: &Ledger, stage: StageId) -> Result<bool, Trouble> {
        let Some(unmask) = self.unmask else { return Ok(false) };
        if unmask == Unmask::Terminal && !std::io::stdout().is_terminal() {
            let message = "secrets are not shown here: standard output is not a terminal";
            return Err(Trouble::refused(message).help("if that is meant, write --unmask=always"));
        }
        may_unmask(ledger, stage, self.countersign.as_ref())?;
        Ok(true)
    }
}

/// The fields of a unit in a stage that are looked at, with values given for this run.
#[derive(Debug, Args)]
pub(crate) struct LookOptions {
    /// The stage, where the address names none
    #[arg(add = ArgValueCompleter::new(complete::stage), long, value_name = "STAGE")]
    pub(crate) stage: Option<Name>,
    #[command(flatten)]
    pub(crate) unmask: UnmaskOptions,
    #[command(flatten)]
    pub(crate) assume: AssumeOptions,
}

impl LookOptions {
    /// Reads what the values of an address need; with assumptions, the units that these name as well.
    pub(crate) fn scope(&self, at: &Workplace, address: &Address) -> Result<Scope, Trouble> {
        if !self.assume.assume.is_empty() || address.owner.is_none() {
            return self.assume.scope([address]);
        }
        let usual = at.usual_stage.as_ref().and_then(|usual| Name::parse(&usual.name).ok());
        let stage = address.stage.clone().or(usual);
        Ok(Scope::Values(vec![Address { stage, ..address.clone() }]))
    }

    /// Whether secrets are shown in clear, and the values that are given for this run.
    pub(crate) fn read(&self, ledger: &Ledger, stage: StageId) -> Result<(bool, Vec<Assumption>), Trouble> {
        Ok((self.unmask.granted(ledger, stage)?, self.assume.read(ledger, stage)?))
    }
}
