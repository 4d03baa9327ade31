//! `cledger key rotate`: a new key, and all its secrets encrypted anew.

use cledger_store::rotate;

use super::{Done, Renewal, finish, layers, scopes};
use crate::app::App;
use crate::change::{Changing, NO_CHANGE};
use crate::error::CliError;

pub(super) fn run(args: &Renewal, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = Changing::start(app, &args.change)?;
    let layers = layers(&changing.ledger, &args.stages)?;
    let scopes = scopes(&changing.ledger, &layers);
    let keys = changing.keys(&NO_CHANGE);
    let (changed, counts) = rotate(&changing.ledger, &keys, &scopes)?;
    let mut done = Vec::new();
    for (scope, count) in scopes.into_iter().zip(counts) {
        let readers = super::readers(&keys.key(&scope)?.readers);
        done.push(Done {
            scope,
            readers,
            secrets: Some(count),
            reader: None,
            word: "rotated",
            renews: true,
            changes: true,
        });
    }
    finish(&changing, changed, &layers, &done, (args.write, &args.change), app)
}
