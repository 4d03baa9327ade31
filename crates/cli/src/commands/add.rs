//! `cledger add`: whatever is declared, new.

pub(crate) mod entry;
mod listed;
mod stage;
mod unit;

use clap::{Args, Subcommand};
use cledger_work::Trouble;
use cledger_work::add::Added;
use cledger_work::declare::Declared;

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
    Variable(Box<entry::VariableArgs>),
    /// A connection of a unit, or a shared one
    Connection(entry::EntryArgs<entry::Connection>),
    /// An endpoint of a unit, or a shared one
    Endpoint(entry::EntryArgs<entry::Endpoint>),
    /// A credential of a unit, or a shared one
    Credential(entry::EntryArgs<entry::Credential>),
    /// A lookup table of a unit, or a shared one
    Table(entry::EntryArgs<entry::Table>),
    /// A field of an entry, beside those that come with its kind
    Field(Box<entry::FieldArgs>),
    /// The use of shared entries by a unit
    Use(listed::UseArgs),
    /// An output of a unit: a file that is rendered
    Output(Box<listed::OutputArgs>),
    /// An outlet, where files or values are brought
    Outlet(Box<listed::OutletArgs>),
    /// A rule of the ledger's own
    Rule(Box<listed::RuleArgs>),
    /// A bundle: units that are delivered, promoted, compared and taken back together
    Bundle(listed::BundleArgs),
    /// What a unit expects of a connection or an endpoint when it is probed
    Probe(listed::ProbeArgs),
    /// A chore of a unit or a stage
    Chore(listed::ChoreArgs),
    /// That a stage follows another
    Follow(listed::FollowArgs),
    /// That stages must agree
    Aligned(listed::AlignedArgs),
}

/// What was added, as it is told.
enum New {
    /// With what needs a value now.
    Added(Added),
    /// With what is said of it, and what that does.
    Declared(Box<Declared>),
}

impl From<Added> for New {
    fn from(added: Added) -> Self {
        New::Added(added)
    }
}

impl From<Declared> for New {
    fn from(declared: Declared) -> Self {
        New::Declared(Box::new(declared))
    }
}

pub(crate) fn run(args: &AddArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let new: New = match &args.what {
        What::Stage(args) => args.add(app)?.into(),
        What::Group(args) => args.add(app)?.into(),
        What::Unit(args) => args.add(app)?.into(),
        What::Instance(args) => args.add(app)?.into(),
        What::Variable(args) => args.add(app)?.into(),
        What::Connection(args) => args.add(app)?.into(),
        What::Endpoint(args) => args.add(app)?.into(),
        What::Credential(args) => args.add(app)?.into(),
        What::Table(args) => args.add(app)?.into(),
        What::Field(args) => args.add(app)?.into(),
        What::Use(args) => args.add(app)?.into(),
        What::Output(args) => args.add(app)?.into(),
        What::Outlet(args) => args.add(app)?.into(),
        What::Rule(args) => args.add(app)?.into(),
        What::Bundle(args) => args.add(app)?.into(),
        What::Probe(args) => args.add(app)?.into(),
        What::Chore(args) => args.add(app)?.into(),
        What::Follow(args) => args.add(app)?.into(),
        What::Aligned(args) => args.add(app)?.into(),
    };
    Ok(match new {
        New::Added(added) => app.show(&added),
        New::Declared(declared) => app.show(&*declared),
    })
}
