//! `cledger add`: new stages, groups, units, instances and entries.

mod entry;
mod stage;
mod unit;

use clap::{Args, Subcommand};
use cledger_work::Trouble;

use crate::app::App;

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

pub(crate) fn run(args: &AddArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let added = match &args.what {
        What::Stage(args) => args.add(app)?,
        What::Group(args) => args.add(app)?,
        What::Unit(args) => args.add(app)?,
        What::Instance(args) => args.add(app)?,
        What::Variable(args) => args.add(app)?,
        What::Connection(args) => args.add(app)?,
        What::Endpoint(args) => args.add(app)?,
        What::Credential(args) => args.add(app)?,
        What::Table(args) => args.add(app)?,
    };
    Ok(app.show(&added))
}
