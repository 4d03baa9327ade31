//! `cledger adopt`: a unit and its settings from files that exist.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::model::OutputFormat;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::adopt::adopt;
use cledger_work::adopt::adoption::ToAdopt;

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions};

#[derive(Debug, Args)]
pub(crate) struct AdoptArgs {
    /// The unit to make, or to bring up to date
    #[arg(add = ArgValueCompleter::new(complete::address))]
    unit: Name,
    /// A file, or a folder of files, and the stage that it is of; `default=FILE`, a base file over which those of the stages
    /// are laid; `STAGE=outlet:NAME`, what an outlet has of the unit now; or `STAGE=capture:FILE`, what a capture has of it
    #[arg(required = true, value_name = "STAGE=FILE")]
    sources: Vec<String>,
    /// The format of files whose names do not tell it
    #[arg(long, value_name = "FORMAT", value_parser = OutputFormat::ALL.map(|(_, name)| name))]
    format: Option<String>,
    /// Of a unit that is there already: take these values from the files in place of the ledger's: fields as
    /// `ENTRY[.FIELD][@STAGE]`, patterns of them, or names as they stand in the files
    #[arg(long, value_name = "NAME", num_args = 1.., value_delimiter = ',')]
    take: Vec<String>,
    /// Make no value a default: each is a setting of its stage
    #[arg(long)]
    no_defaults: bool,
    /// Let secrets stand in plain text where a stage has no key
    #[arg(long)]
    plain_secrets: bool,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &AdoptArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let asked = ToAdopt {
        unit: args.unit.clone(),
        sources: args.sources.clone(),
        format: args.format.as_deref().and_then(format),
        take: args.take.clone(),
        no_defaults: args.no_defaults,
        plain_secrets: args.plain_secrets,
        consent: args.change.consent(),
        write: args.act.writes(),
    };
    let adoption = adopt(&app.change(&args.change.wait)?, &asked)?;
    Ok(app.show(&adoption))
}

/// The format with this name.
pub(super) fn format(name: &str) -> Option<OutputFormat> {
    OutputFormat::ALL.iter().find(|(_, known)| *known == name).map(|(format, _)| *format)
}
