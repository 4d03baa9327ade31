//! `cledger probe`: whether the services that units talk to in a stage answer.

use std::time::Duration;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::meant::{address, refuse_entry};
use cledger_work::probe::{ToProbe, probe, stage_of};

use crate::app::App;
use crate::complete;
use crate::options::{AssumeOptions, duration_of};

#[derive(Debug, Args)]
pub(crate) struct ProbeArgs {
    /// The stage: @STAGE, or UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// Units or instances in that stage, where the address names none; all if not given
    #[arg(value_name = "UNIT", value_delimiter = ',')]
    units: Vec<String>,
    /// The stage, where the address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Only services of which a delivery would change something, as it would be then
    #[arg(long)]
    undelivered: bool,
    #[command(flatten)]
    assume: AssumeOptions,
    /// Give each service so long
    #[arg(long, value_name = "DURATION", default_value = "5s", value_parser = up_to_ten_minutes)]
    timeout: Duration,
    /// Say that a production stage is meant, by its name
    #[arg(long, value_name = "STAGE")]
    countersign: Option<Name>,
}

fn up_to_ten_minutes(text: &str) -> Result<Duration, String> {
    let fraction = text.parse::<f64>().ok().and_then(|seconds| Duration::try_from_secs_f64(seconds).ok());
    let time = fraction.map_or_else(|| duration_of(text), Ok)?;
    let fits = (Duration::from_millis(100)..=Duration::from_secs(600)).contains(&time);
    if fits { Ok(time) } else { Err("from 100ms to 10m".to_owned()) }
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
    let opened = app.open_partly(&args.assume.scope(&addresses)?)?;
    let assumptions = args.assume.read(&opened.ledger, stage_of(&opened, &addresses)?)?;
    let asked = ToProbe {
        addresses: &addresses,
        assumptions: &assumptions,
        undelivered: args.undelivered,
        countersign: args.countersign.as_ref(),
        timeout: args.timeout,
    };
    let report = probe(&opened, &asked)?;
    let status = app.show(&report);
    opened.tell_unread();
    Ok(status)
}
