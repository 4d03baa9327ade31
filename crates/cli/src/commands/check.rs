//! `cledger check`: what is missing, wrong or unused.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Pattern;
use cledger_core::findings::{self, Severity};
use cledger_core::model::StageId;
use cledger_core::name::Name;
use cledger_core::resolve::{Outside, Resolver, Unfetched};
use cledger_store::{Scope, Surroundings};

use crate::app::{App, known_stage};
use crate::complete;
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct CheckArgs {
    /// What to check: a pattern of addresses, like `ticket-desk`, `@prod-*` or `*/bookings-db.*@test`
    #[arg(add = ArgValueCompleter::new(complete::address))]
    pattern: Option<String>,
    /// Check this stage alone
    #[arg(add = ArgValueCompleter::new(complete::stage), long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Also try to fetch what settings take from outside (`from`); without it, that is taken to be there
    #[arg(long)]
    fetch: bool,
}

pub(crate) fn run(args: &CheckArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let pattern = pattern(args)?;
    let (root, ledger) = app.open(&Scope::Whole)?;
    if let Some(stage) = &args.stage {
        known_stage(&ledger, stage.as_str())?;
    }
    let surroundings = Surroundings { ledger: root };
    let outside: &dyn Outside = if args.fetch { &surroundings } else { &Unfetched };
    let resolver = Resolver::new(&ledger, outside, &[]);
    let report = findings::check(&resolver, pattern.as_ref());
    if report.standings.is_empty() && report.findings.is_empty() && pattern.is_some() {
        let message =
            format!("`{}` covers no unit of the ledger", args.pattern.as_deref().unwrap_or_default());
        return Err(CliError::usage(message).help("`cledger list units` shows the units"));
    }
    let covers = |stage: usize| {
        let id = StageId(u16::try_from(stage).unwrap_or(u16::MAX));
        pattern.as_ref().is_none_or(|pattern| pattern.covers_stage(ledger.stage(id).name.as_str()))
    };
    let console = &mut *app.console;
    if console.is_json() {
        console.document(&json::check::document(&ledger, &report));
    } else {
        // How units stand is counted over all their fields.
        let whole = pattern.as_ref().is_none_or(|pattern| !pattern.has_entry());
        text::check::print(console, &ledger, &report, whole.then_some(&covers as &dyn Fn(usize) -> bool));
    }
    let errors = report.count(Severity::Error);
    Ok(if errors > 0 { status::FOUND } else { status::CLEAN })
}

fn pattern(args: &CheckArgs) -> Result<Option<Pattern>, CliError> {
    let text = match (&args.pattern, &args.stage) {
        (None, None) => return Ok(None),
        (None, Some(stage)) => format!("@{stage}"),
        (Some(pattern), None) => pattern.clone(),
        (Some(pattern), Some(stage)) => {
            if Pattern::parse(pattern)?.has_stage() {
                return Err(CliError::usage(format!("`{pattern}` names stages, and so does --stage")));
            }
            format!("{pattern}@{stage}")
        }
    };
    Ok(Some(Pattern::parse(&text)?))
}
