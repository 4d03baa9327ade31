//! `cledger key admit` and `cledger key exclude`: letting readers in and out.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_store::{Admitted, Reader, Recipient, admit as admitted, exclude as excluded};

use super::{Done, Renewal, finish, layers, names, scopes};
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
    let text = if let Some(text) = &args.recipient {
        text.clone()
    } else {
        let known = keys.readers()?.recipient(&args.name).map(str::to_owned);
        let known = known.ok_or_else(|| {
            CliError::usage(format!("the public key of `{}` is not known", args.name))
                .help("ask them for what `cledger key identity` prints, and add --recipient KEY")
        })?;
        app.console.notice(&format!("The public key of {}, as it is listed: {known}", args.name));
        known
    };
    let recipient = Recipient::parse(&text).map_err(|error| CliError::usage(error.to_string()))?;
    let reader = Reader { name: args.name.clone(), recipient };
    let (changed, admitted) = admitted(&keys, &scopes, &reader)?;
    let mut done = Vec::new();
    for (scope, how) in scopes.into_iter().zip(admitted) {
        let mut readers = names(&keys.key(&scope)?.readers);
        let word = match how {
            Admitted::Now => {
                readers.push(args.name.clone());
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
    finish(&changing, changed, &layers, &done, (true, &args.change), app)
}

pub(crate) fn exclude(args: &ExcludeArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = Changing::start(app, &args.renewal.change)?;
    let layers = layers(&changing.ledger, &args.renewal.stages)?;
    let scopes = scopes(&changing.ledger, &layers);
    let keys = changing.keys(&NO_CHANGE);
    let (changed, counts) = excluded(&changing.ledger, &keys, &scopes, &args.name)?;
    let mut done = Vec::new();
    for (scope, count) in scopes.into_iter().zip(counts) {
        let mut readers = names(&keys.key(&scope)?.readers);
        readers.retain(|name| *name != args.name);
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
