//! `cledger waive`: accepts a finding or drift for a while, with a reason.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Pattern;
use cledger_core::findings::{self, Code};
use cledger_core::model::Waived;
use cledger_core::resolve::Resolver;
use cledger_core::value::Value;
use cledger_store::{Changed, Disk, Tree as _, WAIVERS, append, literal};

use crate::app::App;
use crate::change::{ChangeOptions, Changing, NO_CHANGE};
use crate::complete;
use crate::conditions::day;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::secrets::who;

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
    /// Wait so many seconds at most for somebody else who is changing the ledger
    #[arg(long, value_name = "SECONDS", default_value_t = 10)]
    wait: u64,
}

fn codes() -> Vec<&'static str> {
    let of_waivers = [Code::WaiverExpired, Code::WaiverUnneeded];
    let codes = Code::ALL.iter().filter(|code| !of_waivers.contains(code)).map(|code| code.name());
    codes.chain([Waived::DRIFT]).collect()
}

pub(crate) fn run(args: &WaiveArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let pattern = Pattern::parse(&args.address)?;
    let (until, today) = (day(Some(&args.until))?, day(None)?);
    if until < today {
        let message = format!("{until} is over, so that the waiver would never count");
        return Err(CliError::usage(message).help("give it a last day from today on"));
    }
    if args.why.trim().is_empty() {
        return Err(CliError::usage("a waiver says why").help("write --why TEXT"));
    }
    let options = ChangeOptions { countersign: Vec::new(), why: None, wait: args.wait };
    let changing = Changing::start(app, &options)?;
    let by = args.by.clone().or_else(who);
    let quoted = |text: &str| literal(&Value::text(text), None);
    let mut block = format!(
        "[[waiver]]\ncode = {}\naddress = {}\nwhy = {}\nuntil = {until}\n",
        quoted(&args.code),
        quoted(&pattern.to_string()),
        quoted(&args.why)
    );
    if let Some(by) = &by {
        block.push_str(&format!("by = {}\n", quoted(by)));
    }
    let disk = Disk::new(changing.root().to_owned());
    let before = disk.text(WAIVERS).map_err(|error| CliError::usage(format!("`{WAIVERS}`: {error}")))?;
    let changed = Changed::from([(WAIVERS.to_owned(), Some(append(before.as_deref(), &block)))]);
    let planned = changing.plan_texts(changed)?;
    let outside = changing.outside(&NO_CHANGE);
    let report = findings::check(&Resolver::new(&planned.after, &outside, &[]), None, Some(today));
    let last = planned.after.waivers.len().saturating_sub(1);
    let count = report.waived.iter().filter(|(_, by)| *by == last).count();
    changing.write(&planned)?;
    if app.console.is_json() {
        app.console.document(&json::waive::document(&args.code, &args.address, &until.to_string(), count));
    } else {
        text::waive::print(app.console, &args.code, &args.address, &until.to_string(), count);
    }
    Ok(status::CLEAN)
}
