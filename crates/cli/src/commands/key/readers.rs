//! `cledger key admit` and `cledger key exclude`: letting readers in and out.

use clap::Args;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::keys::{self, KeysChanged};

use super::Renewal;
use crate::app::App;

#[derive(Debug, Args)]
pub(super) struct AdmitArgs {
    /// What the reader is called
    name: Name,
    /// The reader's public key, of age or OpenSSH [default: the one by which they read another stage]
    #[arg(long, value_name = "KEY")]
    recipient: Option<String>,
    #[command(flatten)]
    renewal: Renewal,
}

#[derive(Debug, Args)]
pub(super) struct ExcludeArgs {
    /// What the reader is called
    name: Name,
    #[command(flatten)]
    renewal: Renewal,
}

pub(super) fn admit(args: &AdmitArgs, app: &App<'_>) -> Result<KeysChanged, Trouble> {
    let changing = app.change(&args.renewal.change.wait)?;
    keys::admit(&changing, &args.name, args.recipient.as_deref(), &args.renewal.asked())
}

pub(super) fn exclude(args: &ExcludeArgs, app: &App<'_>) -> Result<KeysChanged, Trouble> {
    keys::exclude(&app.change(&args.renewal.change.wait)?, &args.name, &args.renewal.asked())
}
