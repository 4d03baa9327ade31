//! `cledger probe`: whether the services that units talk to in a stage answer.

use std::time::Duration;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::meant::{address, refuse_entry, scope_of};
use cledger_work::probe::probe;

use crate::app::App;
use crate::complete;

#[derive(Debug, Args)]
pub(crate) struct ProbeArgs {
    /// The stage: @STAGE, or UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// Units or instances in that stage, where the address names none; all if not given
    #[arg(value_name = "UNIT")]
    units: Vec<String>,
    /// The stage, where the address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Give each service so many seconds
    #[arg(long, value_name = "SECONDS", default_value = "5", value_parser = seconds)]
    timeout: Duration,
    /// Say that a production stage is meant, by its name
    #[arg(long, value_name = "STAGE")]
    countersign: Option<Name>,
}

fn seconds(text: &str) -> Result<Duration, String> {
    let seconds: f64 = text.parse().map_err(|_| "a number of seconds is needed".to_owned())?;
    let fits = (0.1..=600.0).contains(&seconds);
    if fits { Ok(Duration::from_secs_f64(seconds)) } else { Err("from 0.1 to 600 seconds".to_owned()) }
}

pub(crate) fn run(args: &ProbeArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let address = address(&args.address, args.stage.as_ref())?;
    refuse_entry(&address, "probed")?;
    let mut addresses = vec![address.clone()];
    for unit in &args.units {
        addresses.push(Address { stage: address.stage.clone(), ..Address::parse(unit)? });
    }
    if !args.units.is_empty() && address.owner.is_none() {
        addresses.remove(0);
    }
    let opened = app.open_partly(&scope_of(&addresses))?;
    let report = probe(&opened, &addresses, args.countersign.as_ref(), args.timeout)?;
    let status = app.show(&report);
    opened.tell_unread();
    Ok(status)
}
