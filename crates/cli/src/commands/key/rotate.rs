//! `cledger key rotate`: a new key, and all its secrets encrypted anew.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_store::rotate;

use super::{Done, finish, layers, names, scopes};
use crate::app::App;
use crate::change::{ChangeOptions, Changing, NO_CHANGE};
use crate::complete;
use crate::error::CliError;

#[derive(Debug, Args)]
pub(crate) struct RotateArgs {
    /// Whose key: @STAGE, @GROUP or a pattern
    #[arg(required = true, value_name = "@STAGE", add = ArgValueCompleter::new(complete::address))]
    stages: Vec<String>,
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &RotateArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = Changing::start(app, &args.change)?;
    let layers = layers(&changing.ledger, &args.stages)?;
    let scopes = scopes(&changing.ledger, &layers);
    let keys = changing.keys(&NO_CHANGE);
    let (changed, counts) = rotate(&changing.ledger, &keys, &scopes)?;
    let mut done = Vec::new();
    for (scope, count) in scopes.into_iter().zip(counts) {
        let readers = names(&keys.key(&scope)?.readers);
        done.push(Done {
            scope,
            readers,
            secrets: Some(count),
            reader: None,
            word: "rotated",
            changes: true,
        });
    }
    finish(&changing, changed, &layers, &done, (args.write, &args.change), app)
}
