//! `cledger waive`: accepts a finding or drift for a while, with a reason.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::findings::Code;
use cledger_core::model;
use cledger_work::Trouble;
use cledger_work::waive::{ToWaive, waive};

use crate::app::App;
use crate::complete;
use crate::options::WaitOptions;

#[derive(Debug, Args)]
pub(crate) struct WaiveArgs {
    /// What it is about, as a pattern of addresses, such as `shared/mail.*@dev`
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The code of the finding, or `drift`
    #[arg(value_parser = codes())]
    code: String,
    /// Why it is accepted
    #[arg(long, value_name = "TEXT")]
    why: String,
    /// The last day on which it is
    #[arg(long, value_name = "YYYY-MM-DD")]
    until: String,
    /// Who agreed [default: by `CLEDGER_WHO` or your user name]
    #[arg(long, value_name = "NAME")]
    by: Option<String>,
    #[command(flatten)]
    wait: WaitOptions,
}

fn codes() -> Vec<&'static str> {
    let of_waivers = [Code::WaiverExpired, Code::WaiverUnneeded];
    let codes = Code::ALL.iter().filter(|code| !of_waivers.contains(code)).map(|code| code.name());
    codes.chain([model::Waived::DRIFT]).collect()
}

pub(crate) fn run(args: &WaiveArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let asked = ToWaive {
        address: args.address.clone(),
        code: args.code.clone(),
        why: args.why.clone(),
        until: args.until.clone(),
        by: args.by.clone(),
    };
    let waived = waive(&app.change(&args.wait)?, &asked)?;
    Ok(app.show(&waived))
}
