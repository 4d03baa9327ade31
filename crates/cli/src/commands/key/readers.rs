//! `cledger key admit` and `cledger key exclude`: letting readers in and out.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::cipher::KeyScope;
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_store::{
    Admitted, Keys, Reader, Recipient, admit as admitted, exclude as excluded, known_recipient,
};

use super::{Done, Renewal, finish, layers, scopes};
use crate::app::App;
use crate::change::{ChangeOptions, Changing, NO_CHANGE};
use crate::complete;
use crate::error::CliError;

#[derive(Debug, Args)]
pub(crate) struct AdmitArgs {
    /// What the reader is called
    name: Name,
    /// Whose key: @STAGE, @GROUP or a pattern
    #[arg(required = true, value_name = "@STAGE", add = ArgValueCompleter::new(complete::address))]
    stages: Vec<String>,
    /// The reader's public key, of age or OpenSSH [default: the one by which they read another stage]
    #[arg(long, value_name = "KEY")]
    recipient: Option<String>,
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

#[derive(Debug, Args)]
pub(crate) struct ExcludeArgs {
    /// What the reader is called
    name: Name,
    #[command(flatten)]
    renewal: Renewal,
}

pub(crate) fn admit(args: &AdmitArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = Changing::start(app, &args.change)?;
    let layers = layers(&changing.ledger, &args.stages)?;
    let scopes = scopes(&changing.ledger, &layers);
    let keys = changing.keys(&NO_CHANGE);
    let recipient = match &args.recipient {
        Some(text) => Recipient::parse(text).map_err(|error| CliError::usage(error.to_string()))?,
        None => recipient_of(&keys, &changing.ledger, &args.name)?,
    };
    let reader = Reader { name: args.name.clone(), recipient };
    let incoming = super::reader(&reader);
    if let Some(scope) = keys.watch().other_key_of(&reader) {
        let message = format!("`{}` has another public key for `{scope}`", args.name);
        return Err(CliError::refused(message).help(format!(
            "if it changed, let them out first: cledger key exclude {} @{}",
            args.name,
            scope.rsplit('/').next().unwrap_or_default()
        )));
    }
    let (changed, admitted) = admitted(&keys, &scopes, &reader)?;
    let mut done = Vec::new();
    for (scope, how) in scopes.into_iter().zip(admitted) {
        let mut readers = super::readers(&keys.key(&scope)?.readers);
        let word = match how {
            Admitted::Now => {
                readers.push(incoming.clone());
                readers.sort_unstable();
                "let in"
            }
            Admitted::Before => "is a reader already",
        };
        done.push(Done {
            scope,
            readers,
            secrets: None,
            reader: Some(args.name.clone()),
            word,
            renews: false,
            changes: how == Admitted::Now,
        });
    }
    finish(&changing, changed, &layers, &done, (args.write, &args.change), app)
}

/// The public key of somebody who reads other stages, from key files that can be trusted; never from the list
/// of readers, which anybody can write.
fn recipient_of(keys: &Keys<'_>, ledger: &Ledger, name: &Name) -> Result<Recipient, CliError> {
    let all: Vec<KeyScope> = ledger.layer_ids().map(|layer| ledger.key_scope(layer)).collect();
    known_recipient(keys, &all, name).ok_or_else(|| {
        let message =
            format!("the public key of `{name}` is in no key file that you can open and have seen before");
        CliError::usage(message)
            .help("ask them for what `cledger key identity` prints, and add --recipient KEY")
    })
}

pub(crate) fn exclude(args: &ExcludeArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = Changing::start(app, &args.renewal.change)?;
    let layers = layers(&changing.ledger, &args.renewal.stages)?;
    let scopes = scopes(&changing.ledger, &layers);
    let keys = changing.keys(&NO_CHANGE);
    let (changed, counts) = excluded(&changing.ledger, &keys, &scopes, &args.name)?;
    let mut done = Vec::new();
    for (scope, count) in scopes.into_iter().zip(counts) {
        let mut readers = super::readers(&keys.key(&scope)?.readers);
        readers.retain(|reader| reader.name != args.name);
        done.push(Done {
            scope,
            readers,
            secrets: Some(count),
            reader: Some(args.name.clone()),
            word: "let out",
            renews: true,
            changes: true,
        });
    }
    let status = finish(&changing, changed, &layers, &done, (args.renewal.write, &args.renewal.change), app)?;
    if args.renewal.write {
        let name = &args.name;
        app.console.notice(&format!(
            "{name} may still know what stood there until now: change these secrets where they are used."
        ));
    }
    Ok(status)
}
