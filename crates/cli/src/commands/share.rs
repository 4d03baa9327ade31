//! `cledger share`: a unit's entry becomes one that several units use.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Owner};
use cledger_core::effects::{Effect, Seen};
use cledger_core::model::{Subject, UnitId};
use cledger_core::name::Name;
use cledger_store::{Disk, share};

use super::rename::files;
use super::show::fields_of;
use crate::app::App;
use crate::change::{ChangeOptions, Changing, NO_CHANGE};
use crate::complete;
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ShareArgs {
    /// The entry, as UNIT/ENTRY
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// Other units that use it from now on; an entry of theirs with this name becomes this one
    #[arg(long, value_name = "UNIT", value_delimiter = ',')]
    with: Vec<Name>,
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &ShareArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = Changing::start(app, &args.change)?;
    let ledger = &changing.ledger;
    let address = Address::parse(&args.address)?;
    let (Some(Owner::Unit(unit, None)), Some(entry), None, None) =
        (&address.owner, &address.entry, &address.field, &address.stage)
    else {
        return Err(CliError::usage(format!("`{address}` names no entry of a unit")).help("write UNIT/ENTRY"));
    };
    let id = unit_id(app, &changing, unit)?;
    let slots = fields_of(ledger, Subject::Unit(id, None), &address)?;
    let shared =
        slots.first().is_some_and(|&slot| ledger.unit(id).slots.entry_of(slot).0.entry.shared().is_some());
    if shared || ledger.shared_id(entry.as_str()).is_some() {
        let message = format!("there is a shared entry `{entry}` already");
        return Err(
            CliError::usage(message).help("add it to `uses` of the units that need it, or rename this one")
        );
    }
    let others: Vec<UnitId> =
        args.with.iter().map(|name| unit_id(app, &changing, name)).collect::<Result<_, _>>()?;
    let disk = Disk::new(changing.root().to_owned());
    let mut changed =
        share(&disk, ledger, id, entry, &others).map_err(|error| CliError::usage(error.to_string()))?;
    changing.resealed(ledger, &NO_CHANGE, &mut changed)?;
    let planned = changing.plan_texts(changed)?;
    if let Some(effect) = planned.effects.iter().find(|effect| effect.before != Seen::NotThere) {
        let message = format!("`{address}` cannot be shared as it is: {} would change", effect.address);
        return Err(CliError::refused(message).help(reason(effect)));
    }
    if args.write {
        changing.write(&planned)?;
    }
    let files = files(ledger, &planned.changed);
    let to = format!("shared/{entry}");
    if app.console.is_json() {
        app.console.document(&json::rename::document(&args.address, &to, &files, args.write));
    } else {
        text::rename::print(app.console, "shared", &args.address, &to, &files, args.write);
    }
    Ok(status::CLEAN)
}

fn unit_id(app: &App<'_>, changing: &Changing, name: &Name) -> Result<UnitId, CliError> {
    match app.unit(&changing.ledger, name, None)? {
        Subject::Unit(id, _) => Ok(id),
        Subject::Shared => Err(CliError::usage("`shared` is no unit")),
    }
}

/// Why a value stands in the way.
fn reason(effect: &Effect) -> String {
    match &effect.after {
        Seen::Problem(codes) if codes.contains(&"reference-unknown") => {
            "shared text can name shared entries only: give that field a value without such a reference"
                .to_owned()
        }
        Seen::NotThere => "the units declare it differently: let their declarations agree first".to_owned(),
        _ => {
            "the units differ in it: leave that unit out of --with, or let the values agree first".to_owned()
        }
    }
}
