//! `cledger key identity`: the private key that is one's own.

use clap::Args;
use cledger_store::Made;

use crate::app::App;
use crate::error::{CliError, status};
use crate::output::json;

#[derive(Debug, Args)]
pub(crate) struct IdentityArgs {}

pub(crate) fn run(_args: &IdentityArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let made = app.identity.make()?;
    let path = app.identity.shown().trim_matches('`').to_owned();
    let recipients: Vec<String> = app.identity.recipients()?.iter().map(ToString::to_string).collect();
    if app.console.is_json() {
        app.console.document(&json::key::identity(&path, &recipients, made == Made::New));
        return Ok(status::CLEAN);
    }
    let what = match made {
        Made::New => "New identity, readable by you alone",
        Made::Before => "Your identity",
    };
    app.console.notice(&format!("{what}: {path}\nIts public key, for whoever lets you in:"));
    for recipient in &recipients {
        app.console.line(recipient);
    }
    Ok(status::CLEAN)
}
