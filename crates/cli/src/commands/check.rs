//! `cledger check`: what is missing, wrong or unused.

use std::env;

use clap::{Args, ValueEnum};
use clap_complete::ArgValueCompleter;
use cledger_core::findings::{Code, Severity};
use cledger_core::model::StageId;
use cledger_core::name::Name;
use cledger_work::check::{Checked, ToCheck, check};
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::exit;
use crate::output::console::Console;
use crate::output::places::Places;
use crate::output::shown::Shown;
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
        pattern: args.pattern.clone(),
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

/// What was found, and how it is shown.
struct View<'c> {
    checked: &'c Checked,
    /// Whether what is waived is listed, too.
    waived: bool,
    /// From which severity on it fails.
    fails: Severity,
}

impl View<'_> {
    /// Whether a stage was checked.
    fn covers(&self, stage: usize) -> bool {
        let id = StageId(u16::try_from(stage).unwrap_or(u16::MAX));
        let name = self.checked.ledger.stage(id).name.as_str();
        self.checked.pattern.as_ref().is_none_or(|pattern| pattern.covers_stage(name))
    }

    /// Writes it in a form for programs.
    fn write(&self, form: Form, console: &mut Console) -> Result<(), Trouble> {
        let Checked { folder, ledger, report, .. } = self.checked;
        let here = env::current_dir().unwrap_or_default();
        let places = Places::new(ledger, folder, &here);
        match form {
            Form::Text | Form::Json => console.document(&self.document()),
            Form::Sarif => console.document(&sarif::document(&places, report)),
            Form::Lines => lines::print(console, &places, report),
            Form::Junit => {
                let text = junit::text(&places, report, self.fails, &|stage| self.covers(stage))
                    .map_err(|error| Trouble::outside(format!("the report cannot be written: {error}")))?;
                console.raw(&text);
            }
        }
        Ok(())
    }
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        let Checked { ledger, report, pattern, is_against, .. } = self.checked;
        // How units stand is counted over all their fields.
        let whole = !is_against && pattern.as_ref().is_none_or(|pattern| !pattern.has_entry());
        let covers = |stage: usize| self.covers(stage);
        let covers = whole.then_some(&covers as &dyn Fn(usize) -> bool);
        text::check::print(console, ledger, report, covers, self.waived);
    }

    fn document(&self) -> impl Serialize {
        json::check::document(&self.checked.ledger, &self.checked.report)
    }

    fn kind(&self) -> Option<Kind> {
        let mut findings = self.checked.report.findings.iter();
        findings.any(|finding| finding.severity >= self.fails).then_some(Kind::Found)
    }
}

/// What a code means.
struct Explanation(Code);

impl Shown for Explanation {
    fn print(&self, console: &mut Console) {
        text::check::explanation(console, self.0);
    }

    fn document(&self) -> impl Serialize {
        json::check::explanation(self.0)
    }
}
