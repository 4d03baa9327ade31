//! `cledger check`: what is missing, wrong or unused.

use clap::{Args, ValueEnum};
use clap_complete::ArgValueCompleter;
use cledger_core::findings::{Code, Severity};
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::check::{ToCheck, check};

use crate::app::App;
use crate::complete;
use crate::exit;
use crate::output::checked::{Explanation, Form, View};
use crate::output::shown::Shown as _;

#[derive(Debug, Args)]
pub(crate) struct CheckArgs {
    /// What to check: a pattern of addresses, like `ticket-desk`, `@prod-*` or `*/bookings-db.*@test`, or several of whole
    /// units, or bundle:NAME
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "PATTERN", value_delimiter = ',')]
    patterns: Vec<String>,
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
    #[arg(long, value_name = "CODE", value_parser = Code::ALL.iter().map(|code| code.name()).collect::<Vec<_>>(), conflicts_with_all = ["patterns", "stage", "fetch", "against", "today", "waived", "form", "fail_on"])]
    explain: Option<String>,
}

/// The severities to fail on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum FailOn {
    Error,
    Warning,
}

pub(crate) fn run(args: &CheckArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if let Some(name) = &args.explain {
        let code = Code::ALL.iter().find(|code| code.name() == name).copied();
        let code = code.ok_or_else(|| Trouble::usage(format!("there is no code `{name}`")))?;
        return Ok(app.show(&Explanation(code)));
    }
    if app.console.is_json() && !matches!(args.form, Form::Text | Form::Json) {
        return Err(Trouble::usage("--json is a form of its own").help("leave out --json, or --form"));
    }
    let asked = ToCheck {
        patterns: args.patterns.clone(),
        stage: args.stage.clone(),
        fetch: args.fetch,
        against: args.against.clone(),
        strict: args.strict,
        today: args.today.clone(),
    };
    let checked = check(&app.at, &asked)?;
    let fails = match args.fail_on {
        FailOn::Error => Severity::Error,
        FailOn::Warning => Severity::Warning,
    };
    let view = View { checked: &checked, waived: args.waived, fails };
    let status = match args.form {
        Form::Text => app.show(&view),
        form => {
            view.write(form, app.console)?;
            exit::of_result(view.kind())
        }
    };
    for line in &checked.left {
        app.console.notice(line);
    }
    Ok(status)
}
