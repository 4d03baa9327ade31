//! `cledger key`: who may read the secrets of which stages and groups.

mod list;
mod make;
mod readers;

use clap::{Args, Subcommand};
use clap_complete::ArgValueCompleter;
use cledger_work::Trouble;
use cledger_work::keys::{self, KeyChange};

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions, DryRunOptions};

#[derive(Debug, Args)]
pub(crate) struct KeyArgs {
    #[command(subcommand)]
    what: What,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Make an identity, the private key of yours that opens stages' keys, and print its public key
    Identity(DryRunOptions),
    /// Make the key of stages and groups
    Make(make::MakeArgs),
    /// Let a reader in
    Admit(readers::AdmitArgs),
    /// Let a reader out, and encrypt everything anew that they could read
    Exclude(readers::ExcludeArgs),
    /// List who may read what
    List(list::ListArgs),
    /// Put a new key in place of one, and encrypt all its secrets anew
    Rotate(Renewal),
    /// Encrypt the secrets that lie in plain text in stages and groups
    Protect(Renewal),
}

/// Whose keys are changed, or whose secrets encrypted, and whether that is done.
#[derive(Debug, Args)]
struct Renewal {
    /// Whose key: @STAGE, @GROUP or a pattern
    #[arg(required = true, value_name = "@STAGE", add = ArgValueCompleter::new(complete::address), value_delimiter = ',')]
    stages: Vec<String>,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

impl Renewal {
    fn asked(&self) -> KeyChange {
        KeyChange { stages: self.stages.clone(), consent: self.change.consent(), write: self.act.writes() }
    }
}

pub(crate) fn run(args: &KeyArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let changed = match &args.what {
        What::Identity(dry_run) => return Ok(app.show(&keys::identity(&app.at, !dry_run.is_given)?)),
        What::List(args) => return list::run(args, app),
        What::Make(args) => make::run(args, app)?,
        What::Admit(args) => readers::admit(args, app)?,
        What::Exclude(args) => readers::exclude(args, app)?,
        What::Rotate(args) => keys::rotate(&app.change(&args.change.wait)?, &args.asked())?,
        What::Protect(args) => keys::protect(&app.change(&args.change.wait)?, &args.asked())?,
    };
    Ok(app.show(&changed))
}
