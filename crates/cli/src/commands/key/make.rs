//! `cledger key make`: keys for stages and groups that have none.

use clap::Args;
use cledger_core::name::Name;
use cledger_store::SecretString;
use cledger_work::Trouble;
use cledger_work::keys::{KeysChanged, ToMake, make};

use super::Renewal;
use crate::app::App;
use crate::terminal::new_passphrase;

#[derive(Debug, Args)]
pub(super) struct MakeArgs {
    /// What you are called as a reader [default: by `CLEDGER_WHO` or your user name]
    #[arg(long = "as", value_name = "NAME")]
    name: Option<Name>,
    /// Another reader, with their public key
    #[arg(long, value_name = "NAME=KEY")]
    reader: Vec<String>,
    /// Protect it by a passphrase, for you alone, instead of your identity
    #[arg(long, conflicts_with = "reader")]
    passphrase: bool,
    #[command(flatten)]
    renewal: Renewal,
}

pub(super) fn run(args: &MakeArgs, app: &App<'_>) -> Result<KeysChanged, Trouble> {
    let passphrase: &dyn Fn() -> Result<SecretString, Trouble> = &new_passphrase;
    let asked = ToMake {
        change: args.renewal.asked(),
        name: args.name.clone(),
        readers: args.reader.clone(),
        passphrase: args.passphrase.then_some(passphrase),
    };
    make(&app.change(&args.renewal.change.wait)?, &asked)
}
