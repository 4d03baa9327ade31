//! `cledger waive`: accepts a finding or drift for a while, with a reason.

use clap::Args;
use clap_complete::{ArgValueCandidates, ArgValueCompleter, CompletionCandidate};
use cledger_core::findings::Code;
use cledger_core::model;
use cledger_core::name::{Name, nearest};
use cledger_work::Trouble;
use cledger_work::waive::{ToWaive, unwaive, waive};

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, WaitOptions};

#[derive(Debug, Args)]
pub(crate) struct WaiveArgs {
    /// What it is about, as a pattern of addresses, such as `shared/mail.*@dev`
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The code of the finding, `rule:NAME` for a rule, or `drift`
    #[arg(value_parser = code, add = ArgValueCandidates::new(codes))]
    code: String,
    /// Why it is accepted
    #[arg(long, value_name = "TEXT", required_unless_present = "remove")]
    why: Option<String>,
    /// The last day on which it is
    #[arg(long, value_name = "YYYY-MM-DD", required_unless_present = "remove")]
    until: Option<String>,
    /// Who agreed [default: by `CLEDGER_WHO` or your user name]
    #[arg(long, value_name = "NAME")]
    by: Option<String>,
    /// Take the waiver out that is written with this address and code
    #[arg(long, conflicts_with_all = ["why", "until", "by"])]
    remove: bool,
    /// Say which production stages are meant, by their names
    #[arg(long, value_name = "STAGE", value_delimiter = ',')]
    countersign: Vec<Name>,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    wait: WaitOptions,
}

fn known() -> impl Iterator<Item = &'static str> {
    let of_waivers = [Code::WaiverExpired, Code::WaiverUnneeded, Code::WaiverTooWide, Code::Rule];
    let codes = Code::ALL.iter().filter(move |code| !of_waivers.contains(code)).map(|code| code.name());
    codes.chain([model::Waived::DRIFT])
}

fn codes() -> Vec<CompletionCandidate> {
    known().map(CompletionCandidate::new).collect()
}

fn code(text: &str) -> Result<String, String> {
    if known().any(|code| code == text)
        || text.strip_prefix(model::Waived::RULE).is_some_and(|it| !it.is_empty())
    {
        return Ok(text.to_owned());
    }
    if text == Code::Rule.name() {
        // It may stand in a waiver that is to be taken out.
        return Ok(text.to_owned());
    }
    let near = nearest(text, known()).map(|near| format!("; the nearest is {near}")).unwrap_or_default();
    Err(format!("no finding has this code{near}; `cledger check --explain` lists them"))
}

pub(crate) fn run(args: &WaiveArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if args.remove {
        return Ok(app.show(&unwaive(
            &app.change(&args.wait)?,
            &args.address,
            &args.code,
            args.act.writes(),
        )?));
    }
    if args.code == Code::Rule.name() {
        let message = "a waiver of all rules would accept whatever is broken later";
        return Err(Trouble::usage(message).help("write which rule is meant: rule:NAME"));
    }
    let asked = ToWaive {
        address: args.address.clone(),
        code: args.code.clone(),
        why: args.why.clone().unwrap_or_default(),
        until: args.until.clone().unwrap_or_default(),
        by: args.by.clone(),
        countersign: args.countersign.clone(),
        write: args.act.writes(),
    };
    let waived = waive(&app.change(&args.wait)?, &asked)?;
    Ok(app.show(&waived))
}
