//! `cledger rehome`: an artifact exported from one stage, with the values of another.

use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_work::Trouble;
use cledger_work::meant::{address, scope_of};
use cledger_work::rehome::{ToRehome, rehome};

use crate::app::App;
use crate::complete;
use crate::options::HandOutOptions;

#[derive(Debug, Args)]
pub(crate) struct RehomeArgs {
    /// The artifact: JSON, XML, any other text, or a zip archive of them
    file: PathBuf,
    /// Whose values are in it: UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), long, value_name = "ADDRESS")]
    from: String,
    /// Whose values take their places: UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), long, value_name = "ADDRESS")]
    to: String,
    /// Only these fields (ENTRY or ENTRY.FIELD, a pattern), or only at and below a place (/JSON/POINTER)
    #[arg(long, value_name = "FIELD|PLACE", value_delimiter = ',')]
    only: Vec<String>,
    /// Write to this file instead of the artifact itself
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Write over a file that is there
    #[arg(long, requires = "out")]
    overwrite: bool,
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    hand_out: HandOutOptions,
}

pub(crate) fn run(args: &RehomeArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let asked = ToRehome {
        file: args.file.clone(),
        from: address(&args.from, None)?,
        to: address(&args.to, None)?,
        only: args.only.clone(),
        out: args.out.clone(),
        overwrite: args.overwrite,
        countersign: args.hand_out.countersign.clone(),
        write: args.write,
    };
    let opened = app.open(&scope_of([&asked.from, &asked.to]))?;
    Ok(app.show(&rehome(&opened, &asked)?))
}
