//! `cledger outlet put`: units brought to the outlets of a stage beside the usual way.

use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::name::Name;
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::outlet::put::put;
use cledger_work::outlet::put_captured::{ToPutBack, put_captured};
use cledger_work::whole_units::WholeUnits;

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions, EditOptions};

#[derive(Debug, Args)]
pub(crate) struct PutArgs {
    /// What to bring: UNIT[+INSTANCE]@STAGE; of a capture also patterns of units, bundle:NAME@STAGE, or @STAGE for all in it
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "UNIT@STAGE", value_delimiter = ',', required = true)]
    what: Vec<String>,
    /// The stage, where none is named with the units
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Bring back what this capture has of them, in place of what the ledger says
    #[arg(long, value_name = "FILE")]
    captured: Option<PathBuf>,
    /// Bring these fields alone back, as ENTRY or ENTRY.FIELD
    #[arg(long, value_name = "PATTERN", value_delimiter = ',', requires = "captured")]
    only: Vec<String>,
    /// Bring all fields back but these, as ENTRY or ENTRY.FIELD
    #[arg(long, value_name = "PATTERN", value_delimiter = ',', requires = "captured")]
    except: Vec<String>,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    edits: EditOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(super) fn run(args: &PutArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let what = WholeUnits::parse(&args.what, args.stage.as_ref(), "put")?.without_delivery()?;
    let opened = app.open(&Scope::Whole)?;
    if let Some(path) = &args.captured {
        let asked = ToPutBack {
            only: args.only.clone(),
            except: args.except.clone(),
            edits: args.edits.edits(),
            consent: args.change.consent(),
            write: args.act.writes(),
        };
        return Ok(app.show(&put_captured(&opened, &what, path, &asked)?));
    }
    let Some(owner) = what.only_one() else {
        return Err(Trouble::usage("what the ledger says is put unit by unit")
            .help("write UNIT[+INSTANCE]@STAGE; or bring a capture back: --captured FILE"));
    };
    let address = Address::of_owner(Some(owner.clone()), what.stage.as_ref());
    let put = put(&opened, &address, &args.edits.edits(), &args.change.consent(), args.act.writes())?;
    Ok(app.show(&put))
}
