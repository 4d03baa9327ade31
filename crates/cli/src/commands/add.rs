//! `cledger add`: new stages, groups, units, instances and entries.

mod entry;
mod stage;
mod unit;

use clap::{Args, Subcommand};
use cledger_core::effects::{Effect, Seen};
use cledger_store::{Changed, Disk, Tree as _, append};

use crate::app::App;
use crate::change::{ChangeOptions, Changing};
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct AddArgs {
    #[command(subcommand)]
    what: What,
}

#[derive(Debug, Subcommand)]
enum What {
    /// A stage, with a file that lists what it has to set
    Stage(stage::StageArgs),
    /// A group of settings for several stages
    Group(stage::GroupArgs),
    /// A unit, with an empty contract
    Unit(unit::UnitArgs),
    /// An instance of a unit
    Instance(unit::InstanceArgs),
    /// A variable of a unit, or a shared one
    Variable(entry::VariableArgs),
    /// A connection of a unit, or a shared one
    Connection(entry::ConnectionArgs),
    /// An endpoint of a unit, or a shared one
    Endpoint(entry::EndpointArgs),
    /// A credential of a unit, or a shared one
    Credential(entry::CredentialArgs),
    /// A lookup table of a unit, or a shared one
    Table(entry::TableArgs),
}

pub(crate) fn run(args: &AddArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    match &args.what {
        What::Stage(args) => stage::stage(args, app),
        What::Group(args) => stage::group(args, app),
        What::Unit(args) => unit::unit(args, app),
        What::Instance(args) => unit::instance(args, app),
        What::Variable(args) => entry::variable(args, app),
        What::Connection(args) => entry::connection(args, app),
        What::Endpoint(args) => entry::endpoint(args, app),
        What::Credential(args) => entry::credential(args, app),
        What::Table(args) => entry::table(args, app),
    }
}

/// Starts a change that adds something: nobody's reason and no countersign is needed for that.
fn start(app: &App<'_>, wait: u64) -> Result<Changing, CliError> {
    Changing::start(app, &ChangeOptions { countersign: Vec::new(), why: None, wait })
}

/// A file's new text with a block of lines at its end.
fn appended(changing: &Changing, path: &str, block: &str) -> Result<(String, Option<String>), CliError> {
    let text = Disk::new(changing.root().to_owned())
        .text(path)
        .map_err(|error| CliError::usage(format!("`{path}` cannot be edited: {error}")))?;
    Ok((path.to_owned(), Some(append(text.as_deref(), block))))
}

/// Writes what was added, and says what needs a value now.
fn finish(changing: &Changing, changed: Changed, added: &str, app: &mut App<'_>) -> Result<u8, CliError> {
    let planned = changing.plan_texts(changed)?;
    changing.refuse_bad_rows(&planned)?;
    changing.write(&planned)?;
    let missing = |effect: &&Effect| effect.after == Seen::Missing && effect.before == Seen::NotThere;
    let missing: Vec<&Effect> = planned.effects.iter().filter(missing).collect();
    let files: Vec<&str> = planned.changed.keys().map(String::as_str).collect();
    if app.console.is_json() {
        app.console.document(&json::add::document(added, &files, &missing));
    } else {
        text::add::print(app.console, added, &files, &missing);
    }
    Ok(status::CLEAN)
}
