//! `cledger schema`: a JSON Schema for each kind of ledger file, for editors.

use clap::{Args, ValueEnum};
use cledger_store::{Disk, Scope, read};

use cledger_work::Trouble;

use crate::app::App;
use crate::exit;
use crate::schema;

#[derive(Debug, Args)]
pub(crate) struct SchemaArgs {
    /// The kind of file; those of settings know the units and entries of the ledger at hand
    kind: Kind,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Kind {
    /// ledger.toml
    Ledger,
    /// units/UNIT.toml
    Unit,
    /// shared.toml
    Shared,
    /// stages/STAGE.toml
    Stage,
    /// groups/GROUP.toml
    Group,
    /// waivers.toml
    Waivers,
    /// folio.json, in which a folio says what is inside
    Folio,
    /// What `check --json` prints
    Report,
}

pub(crate) fn run(args: &SchemaArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let schema = match args.kind {
        Kind::Ledger => schema::ledger(),
        Kind::Unit => schema::unit(),
        Kind::Shared => schema::shared(),
        Kind::Waivers => schema::waivers(),
        Kind::Folio => schema::folio(),
        Kind::Report => schema::report(),
        Kind::Stage | Kind::Group => {
            // Without a ledger, or with one that cannot be read, it is said in general.
            let ledger = app.at.root().ok().and_then(|root| read(&Disk::new(root), &Scope::Whole).ok());
            schema::settings(ledger.as_ref())
        }
    };
    let text = serde_json::to_string_pretty(&schema)
        .map_err(|error| Trouble::outside(format!("the schema cannot be made: {error}")))?;
    app.console.line(text);
    Ok(exit::CLEAN)
}
