//! `cledger compare`: two stages, a unit in two stages, the ledger at two times, or files.

mod captures;
pub(super) mod deliveries;
mod files;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Pattern};
use cledger_core::compare::{self, SubjectCompared};
use cledger_core::effects::effects;
use cledger_core::model::OutputFormat;
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;

use super::show::without_delivery;
use crate::against::Against;
use crate::app::{App, known_stage, scope_of, unit_of};
use crate::complete;
use crate::error::{CliError, status};
use crate::output::text::compare::Sides;
use crate::output::{json, text};
use crate::reality::captured::CAPTURE;

#[derive(Debug, Args)]
pub(crate) struct CompareArgs {
    /// The first: @STAGE, UNIT[+INSTANCE]@STAGE, a delivery as UNIT@STAGE:NUMBER, `file:PATH` or `capture:PATH`; with --against a pattern of what to compare
    #[arg(add = ArgValueCompleter::new(complete::address), required_unless_present = "against")]
    left: Option<String>,
    /// The second: @STAGE, UNIT[+INSTANCE]@STAGE, a delivery as UNIT@STAGE:NUMBER, `file:PATH` or `capture:PATH`
    #[arg(add = ArgValueCompleter::new(complete::address), required_unless_present = "against", conflicts_with = "against")]
    right: Option<String>,
    /// Compare the ledger with what it was at a git revision: which effective values change
    #[arg(long, value_name = "REV")]
    against: Option<String>,
    /// The format of files whose names do not tell it
    #[arg(long, value_name = "FORMAT", value_parser = OutputFormat::ALL.map(|(_, name)| name))]
    format: Option<String>,
    /// Show also what is the same
    #[arg(long)]
    all: bool,
}

pub(crate) fn run(args: &CompareArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    if let Some(revision) = &args.against {
        return with_revision(revision, args.left.as_deref(), app);
    }
    let (Some(left_text), Some(right_text)) = (&args.left, &args.right) else {
        return Err(CliError::usage("two sides are needed").help("cledger compare @test @prod-north"));
    };
    let is_delivery = |text: &str| Address::parse(text).is_ok_and(|address| address.delivery.is_some());
    if is_delivery(left_text) || is_delivery(right_text) {
        return deliveries::run(args, (left_text, right_text), app);
    }
    if left_text.starts_with(CAPTURE) || right_text.starts_with(CAPTURE) {
        return captures::run(args, (left_text, right_text), app);
    }
    if left_text.starts_with(files::FILE) || right_text.starts_with(files::FILE) {
        return files::run(args, (left_text, right_text), app);
    }
    let left = side(left_text)?;
    let mut right = side(right_text)?;
    if right.owner.is_none() {
        right.owner.clone_from(&left.owner);
    }
    let (left_stage, right_stage) = (stage_name(&left)?, stage_name(&right)?);
    let (root, ledger) = app.open(&scope_of([&left, &right]))?;
    let stages = (known_stage(&ledger, left_stage.as_str())?, known_stage(&ledger, right_stage.as_str())?);
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let compared = match (&left.owner, &right.owner) {
        (None, None) => compare::stages(&mut resolver.session(None), stages.0, stages.1),
        (Some(one), Some(other)) => {
            let subjects =
                (app.subject_in(&ledger, one, stages.0)?, app.subject_in(&ledger, other, stages.1)?);
            if unit_of(subjects.0) != unit_of(subjects.1) {
                let message =
                    format!("`{one}` and `{other}` are different units, whose entries do not correspond");
                return Err(CliError::usage(message)
                    .help(format!("compare one unit in two stages: {one}@{left_stage} @{right_stage}")));
            }
            let mut session = resolver.session(unit_of(subjects.0));
            let fields = compare::fields(&mut session, (subjects.0, stages.0), (subjects.1, stages.1));
            vec![SubjectCompared::Both(subjects.0, fields)]
        }
        _ => {
            let message = format!("`{left_text}` is a whole stage, and `{right_text}` is not");
            return Err(CliError::usage(message).help("name the unit on the left side, or on neither"));
        }
    };
    let console = &mut *app.console;
    if console.is_json() {
        console.document(&json::compare::document(&ledger, &compared, (left_text, right_text)));
    } else {
        let same_stage = left_stage == right_stage;
        let (left, right) = (left.to_string(), right.to_string());
        let sides = if same_stage {
            Sides { left: &left, right: &right }
        } else {
            Sides { left: left_stage.as_str(), right: right_stage.as_str() }
        };
        text::compare::print(console, &ledger, &compared, &sides, args.all);
    }
    app.tell_unread(&outside);
    let unmeant = compared.iter().any(|subject| match subject {
        SubjectCompared::Both(_, fields) => fields.iter().any(compare::Compared::is_unmeant),
        SubjectCompared::OnlyLeft(_) | SubjectCompared::OnlyRight(_) => false,
    });
    Ok(if unmeant { status::FOUND } else { status::CLEAN })
}

/// Which effective values a change of the ledger changes, in which stages.
fn with_revision(revision: &str, pattern: Option<&str>, app: &mut App<'_>) -> Result<u8, CliError> {
    let pattern = pattern.map(Pattern::parse).transpose()?;
    let against = Against::open(app, revision)?;
    let (before, now) = (against.outside_before(app), against.outside_now(app));
    let mut effects =
        effects(&Resolver::new(&against.before, &before, &[]), &Resolver::new(&against.now, &now, &[]));
    effects.retain(|effect| pattern.as_ref().is_none_or(|pattern| pattern.covers(&effect.address)));
    if app.console.is_json() {
        app.console.document(&json::compare::with_revision(revision, &effects));
    } else {
        text::change::effects(app.console, &effects);
    }
    app.tell_unreadable(&now.keys);
    Ok(status::CLEAN)
}

fn side(text: &str) -> Result<Address, CliError> {
    let address = without_delivery(Address::parse(text)?)?;
    if address.entry.is_some() {
        let message = format!("`{text}` names an entry, and whole units are compared");
        return Err(CliError::usage(message).help("leave out what begins with `/`"));
    }
    Ok(address)
}

fn stage_name(address: &Address) -> Result<Name, CliError> {
    address.stage.clone().ok_or_else(|| {
        CliError::usage(format!("`{address}` names no stage")).help(format!("write {address}@STAGE"))
    })
}
