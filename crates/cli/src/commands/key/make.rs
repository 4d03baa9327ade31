//! `cledger key make`: keys for stages and groups that have none.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_store::{Reader, Recipient, SecretString, make};

use super::{Done, finish, layers, scopes};
use crate::app::App;
use crate::change::{ChangeOptions, Changing, NO_CHANGE};
use crate::complete;
use crate::error::CliError;
use crate::secrets::{new_passphrase, who};

#[derive(Debug, Args)]
pub(crate) struct MakeArgs {
    /// Whose key: @STAGE, @GROUP or a pattern
    #[arg(required = true, value_name = "@STAGE", add = ArgValueCompleter::new(complete::address))]
    stages: Vec<String>,
    /// What you are called as a reader [default: by `CLEDGER_WHO` or your user name]
    #[arg(long = "as", value_name = "NAME")]
    name: Option<Name>,
    /// Another reader, with their public key
    #[arg(long, value_name = "NAME=KEY")]
    reader: Vec<String>,
    /// Protect it by a passphrase, for you alone, instead of your identity
    #[arg(long, conflicts_with = "reader")]
    passphrase: bool,
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &MakeArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = Changing::start(app, &args.change)?;
    let layers = layers(&changing.ledger, &args.stages)?;
    let scopes = scopes(&changing.ledger, &layers);
    let name = args.name.clone().map_or_else(own_name, Ok)?;
    let mut readers = Vec::new();
    let passphrase = if args.passphrase {
        readers.push(Reader { name, recipient: Recipient::passphrase() });
        // Nothing is wrapped yet where it is only shown, so nobody need type one.
        Some(if args.write { new_passphrase()? } else { SecretString::from("") })
    } else {
        let own = app.identity.recipients()?;
        readers.extend(own.into_iter().next().map(|recipient| Reader { name, recipient }));
        None
    };
    for text in &args.reader {
        readers.push(reader(text)?);
    }
    readers.sort_by(|one, other| one.name.cmp(&other.name));
    if let Some(twice) = readers.windows(2).find(|pair| pair[0].name == pair[1].name) {
        return Err(CliError::usage(format!("the reader `{}` is named twice", twice[0].name)));
    }
    let changed = make(&changing.keys(&NO_CHANGE), &scopes, &readers, passphrase.as_ref())?;
    let done = scopes.into_iter().map(|scope| Done {
        scope,
        readers: super::readers(&readers),
        secrets: None,
        reader: None,
        word: "made",
        renews: false,
        changes: true,
    });
    let done: Vec<Done> = done.collect();
    finish(&changing, changed, &layers, &done, (args.write, &args.change), app)
}

fn reader(text: &str) -> Result<Reader, CliError> {
    let (name, key) = text.split_once('=').ok_or_else(|| {
        CliError::usage(format!("--reader {text} has no public key")).help("write --reader NAME=KEY")
    })?;
    let name = Name::parse(name).map_err(|error| CliError::usage(format!("`{name}` is no name: {error}")))?;
    let recipient = Recipient::parse(key).map_err(|error| CliError::usage(error.to_string()))?;
    Ok(Reader { name, recipient })
}

/// What somebody is called by their environment, as a name.
fn own_name() -> Result<Name, CliError> {
    let said = who();
    let short = said.as_deref().unwrap_or_default().split('@').next().unwrap_or_default().to_lowercase();
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '_' { c } else { '-' };
    let name: String = short.chars().map(plain).collect();
    Name::parse(name.trim_matches(['-', '_']))
        .map_err(|_| CliError::usage("nothing says what you are called as a reader").help("write --as NAME"))
}
