//! `cledger check`: what is missing, wrong or unused.

mod delivered;

use clap::{Args, ValueEnum};
use clap_complete::ArgValueCompleter;
use cledger_core::address::Pattern;
use cledger_core::findings::{self, Code, Severity};
use cledger_core::model::StageId;
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_store::Scope;

use crate::against::{Against, keep_new};
use crate::app::{App, known_stage};
use crate::complete;
use crate::conditions::day;
use crate::error::{CliError, status};
use crate::output::places::Places;
use crate::output::{json, junit, lines, sarif, text};

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
    /// Only what is new since a git revision: a branch, a tag or a commit
    #[arg(long, value_name = "REV", conflicts_with = "fetch")]
    against: Option<String>,
    /// Take values that only the next delivery needs for errors, as without a daybook
    #[arg(long)]
    strict: bool,
    /// The day from which last days are counted, instead of `CLEDGER_TODAY` or today (UTC)
    #[arg(long, value_name = "YYYY-MM-DD")]
    today: Option<String>,
    /// List what is waived, too
    #[arg(long)]
    waived: bool,
    /// Print it in this form
    #[arg(long, value_name = "FORM", value_enum, default_value_t = Form::Text)]
    form: Form,
    /// End with status 1 from this severity on
    #[arg(long, value_name = "SEVERITY", value_enum, default_value_t = FailOn::Error)]
    fail_on: FailOn,
    /// Say what a finding of this code means, and how to mend it
    #[arg(long, value_name = "CODE", value_parser = Code::ALL.iter().map(|code| code.name()).collect::<Vec<_>>(), conflicts_with_all = ["pattern", "stage", "fetch", "against", "today", "waived", "form", "fail_on"])]
    explain: Option<String>,
}

/// The forms of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// For people
    Text,
    /// One JSON document
    Json,
    /// SARIF 2.1.0, for what shows findings beside code
    Sarif,
    /// A JUnit report, for what shows the results of tests
    Junit,
    /// A line each, for editors: `file:line:column: severity: message [code]`
    Lines,
}

/// The severities to fail on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum FailOn {
    Error,
    Warning,
}

pub(crate) fn run(args: &CheckArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    if let Some(name) = &args.explain {
        return explain(name, app);
    }
    if app.console.is_json() && !matches!(args.form, Form::Text | Form::Json) {
        return Err(CliError::usage("--json is a form of its own").help("leave out --json, or --form"));
    }
    let pattern = pattern(args)?;
    let against = args.against.as_deref().map(|revision| Against::open(app, revision)).transpose()?;
    let opened = if against.is_none() { Some(app.open(&Scope::Whole)?) } else { None };
    let (root, ledger) = match (&against, &opened) {
        (Some(against), _) => (against.root.as_path(), &against.now),
        (None, Some((root, ledger))) => (root.as_path(), ledger),
        (None, None) => return Err(CliError::usage("there is nothing to check")),
    };
    if let Some(stage) = &args.stage {
        known_stage(ledger, stage.as_str())?;
    }
    let here = std::env::current_dir().unwrap_or_default();
    let places = Places::new(ledger, root, &here);
    let outside = match &against {
        Some(against) => against.outside_now(app),
        None if args.fetch => app.outside(root),
        None => app.unfetched(root),
    };
    let today = Some(day(args.today.as_deref())?);
    let mut report = findings::check(&Resolver::new(ledger, &outside, &[]), pattern.as_ref(), today);
    let keys = app.keys(root);
    let left = delivered::look_back(
        &mut report,
        app,
        &Resolver::new(ledger, &outside, &[]),
        root,
        &keys,
        args.strict,
    )?;
    if report.standings.is_empty() && report.findings.is_empty() && pattern.is_some() {
        let message =
            format!("`{}` covers no unit of the ledger", args.pattern.as_deref().unwrap_or_default());
        return Err(CliError::usage(message).help("`cledger list units` shows the units"));
    }
    if let (Some(against), Some(revision)) = (&against, &args.against) {
        let outside = against.outside_before(app);
        let earlier =
            findings::check(&Resolver::new(&against.before, &outside, &[]), pattern.as_ref(), today);
        let gone = keep_new(&mut report, &earlier);
        let new = text::check::counted(report.findings.len(), "new finding");
        app.console.notice(&format!("Since {revision}: {new}, {gone} gone."));
    }
    let covers = |stage: usize| {
        let id = StageId(u16::try_from(stage).unwrap_or(u16::MAX));
        pattern.as_ref().is_none_or(|pattern| pattern.covers_stage(ledger.stage(id).name.as_str()))
    };
    let fails = match args.fail_on {
        FailOn::Error => Severity::Error,
        FailOn::Warning => Severity::Warning,
    };
    let console = &mut *app.console;
    match args.form {
        Form::Text if !console.is_json() => {
            // How units stand is counted over all their fields.
            let whole = against.is_none() && pattern.as_ref().is_none_or(|pattern| !pattern.has_entry());
            let covers = whole.then_some(&covers as &dyn Fn(usize) -> bool);
            text::check::print(console, ledger, &report, covers, args.waived);
        }
        Form::Text | Form::Json => console.document(&json::check::document(ledger, &report)),
        Form::Sarif => console.document(&sarif::document(&places, &report)),
        Form::Lines => lines::print(console, &places, &report),
        Form::Junit => {
            let text = junit::text(&places, &report, fails, &covers)
                .map_err(|error| CliError::outside(format!("the report cannot be written: {error}")))?;
            console.raw(&text);
        }
    }
    for line in &left {
        app.console.notice(line);
    }
    app.tell_unread(&outside);
    let fails = report.findings.iter().any(|finding| finding.severity >= fails);
    Ok(if fails { status::FOUND } else { status::CLEAN })
}

/// Prints what a code means.
fn explain(name: &str, app: &mut App<'_>) -> Result<u8, CliError> {
    let Some(&code) = Code::ALL.iter().find(|code| code.name() == name) else {
        return Err(CliError::usage(format!("there is no code `{name}`")));
    };
    let console = &mut *app.console;
    if console.is_json() {
        console.document(&json::check::explanation(code));
    } else {
        text::check::explanation(console, code);
    }
    Ok(status::CLEAN)
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
