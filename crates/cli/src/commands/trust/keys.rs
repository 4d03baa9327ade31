//! `cledger trust --keys`: these keys are the right ones, whatever was seen before.

use std::path::Path;

use cledger_core::model::Ledger;
use cledger_store::Sight;

use crate::app::App;
use crate::commands::key::{Compared, compared, layers};
use crate::error::{CliError, status};
use crate::output::{json, text};

pub(super) fn run(
    stages: &[String],
    write: bool,
    (root, ledger): (&Path, &Ledger),
    app: &mut App<'_>,
) -> Result<u8, CliError> {
    let keys = app.keys(root);
    let scopes = layers(ledger, stages)?.into_iter().map(|layer| ledger.key_scope(layer));
    let mut found: Vec<Compared> = Vec::new();
    for scope in scopes.filter(|scope| keys.has_key(scope)) {
        // One that cannot be opened cannot be looked at either.
        keys.key(&scope)?;
        found.extend(compared(&keys, &scope));
    }
    if found.is_empty() {
        let message = format!("there is no key of {}", stages.join(", "));
        return Err(CliError::usage(message).help("`cledger key list` shows which there are"));
    }
    if write {
        app.state.remember(root, &ledger.name, |known| {
            let now = found.iter().filter_map(|one| Some((one.scope.to_string(), one.now.clone()?)));
            known.keys.extend(now);
        })?;
    }
    if app.console.is_json() {
        app.console.document(&json::key::compared(&found, Some(write)));
    } else {
        text::key::compared(app.console, &found);
        let news = found.iter().any(|one| one.sight != Some(Sight::Same));
        text::key::trusted(app.console, found.len(), news, write);
    }
    Ok(status::CLEAN)
}
