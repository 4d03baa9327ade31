//! `cledger add unit` and `cledger add instance`.

use std::fmt::Write as _;

use clap::Args;
use cledger_core::address::{Address, Owner};
use cledger_core::name::Name;
use cledger_core::value::Value;
use cledger_store::{Changed, literal};

use super::{appended, finish, start};
use crate::app::App;
use crate::error::CliError;

#[derive(Debug, Args)]
pub(crate) struct UnitArgs {
    /// The new unit's name
    name: Name,
    /// What it is
    #[arg(long, value_name = "TEXT")]
    about: Option<String>,
    /// Who looks after it
    #[arg(long, value_name = "NAME")]
    owner: Option<String>,
    /// The shared entries that it uses
    #[arg(long, value_name = "ENTRY", value_delimiter = ',')]
    uses: Vec<Name>,
    /// The stages where it belongs, as patterns; all if not given
    #[arg(long, value_name = "PATTERN", value_delimiter = ',')]
    stages: Vec<String>,
    /// Wait so many seconds at most for somebody else who is changing the ledger
    #[arg(long, value_name = "SECONDS", default_value_t = 10)]
    wait: u64,
}

#[derive(Debug, Args)]
pub(crate) struct InstanceArgs {
    /// The new instance, as UNIT+INSTANCE
    address: String,
    /// The stages where it exists, as patterns; all of the unit's if not given
    #[arg(long, value_name = "PATTERN", value_delimiter = ',')]
    stages: Vec<String>,
    /// Wait so many seconds at most for somebody else who is changing the ledger
    #[arg(long, value_name = "SECONDS", default_value_t = 10)]
    wait: u64,
}

pub(crate) fn unit(args: &UnitArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = start(app, args.wait)?;
    let name = &args.name;
    if name.is_taken() {
        let message = format!("`{name}` has a meaning of its own in addresses");
        return Err(CliError::usage(message).help("choose another name"));
    }
    if changing.ledger.unit_id(name.as_str()).is_some() {
        let message = format!("there is a unit `{name}` already");
        return Err(CliError::usage(message).help(format!("cledger show {name} shows it")));
    }
    let mut text = String::new();
    for (word, said) in [("about", &args.about), ("owner", &args.owner)] {
        if let Some(said) = said {
            let _ = writeln!(text, "{word} = {}", literal(&Value::text(said), None));
        }
    }
    if !args.stages.is_empty() {
        let _ = writeln!(text, "stages = {:?}", args.stages);
    }
    if !args.uses.is_empty() {
        let _ = writeln!(text, "uses = {:?}", args.uses);
    }
    if text.is_empty() {
        text.push_str("# What the unit needs: `cledger add variable UNIT/NAME` and the like.\n");
    }
    let changed = Changed::from([(format!("units/{name}.toml"), Some(text))]);
    finish(&changing, changed, &format!("unit {name}"), app)
}

pub(crate) fn instance(args: &InstanceArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = start(app, args.wait)?;
    let address = Address::parse(&args.address)?;
    let (Some(Owner::Unit(unit, Some(name))), None, None) = (&address.owner, &address.entry, &address.stage)
    else {
        return Err(CliError::usage(format!("`{address}` names no instance")).help("write UNIT+INSTANCE"));
    };
    app.unit(&changing.ledger, unit, None)?;
    if app.unit(&changing.ledger, unit, Some(name)).is_ok() {
        return Err(
            CliError::usage(format!("there is an instance `{address}` already")).help("choose another name")
        );
    }
    let mut block = format!("[instances.{name}]\n");
    if !args.stages.is_empty() {
        let _ = writeln!(block, "stages = {:?}", args.stages);
    }
    let changed = Changed::from([appended(&changing, &format!("units/{unit}.toml"), &block)?]);
    finish(&changing, changed, &format!("instance {address}"), app)
}
