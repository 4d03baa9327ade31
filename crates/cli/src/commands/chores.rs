//! `cledger chores`: what a person must do around deliveries, and that it was done.

use clap::{Args, Subcommand};
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Pattern};
use cledger_core::model::{Chore, Ledger, StageId, Subject, When};
use cledger_core::resolve::Resolver;
use cledger_store::Scope;
use cledger_store::daybook::{Daybook, Kind, Meta, Packed, Record, Wanted};
use jiff::Timestamp;

use super::deliver::plan::{Planner, all_chores, values};
use super::without_delivery;
use crate::app::App;
use crate::complete;
use crate::daybook;
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct ChoresArgs {
    #[command(subcommand)]
    command: Option<ChoresCommand>,
    /// Whose: @STAGE, UNIT@STAGE or a pattern of these; all if not given
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "PATTERN")]
    pattern: Option<String>,
}

#[derive(Debug, Subcommand)]
enum ChoresCommand {
    /// Say that a chore was done; it is recorded in the daybook
    Done(DoneArgs),
}

#[derive(Debug, Args)]
struct DoneArgs {
    /// Of which unit, as UNIT[+INSTANCE]@STAGE
    #[arg(value_name = "UNIT@STAGE")]
    address: String,
    /// The chore, or the beginning of its text
    text: String,
}

/// A chore that is open.
pub(crate) struct OpenChore<'l> {
    pub(crate) owner: String,
    pub(crate) stage: String,
    pub(crate) chore: &'l Chore,
    /// After which delivery; before the first one if none.
    pub(crate) after: Option<u64>,
}

pub(crate) fn run(args: &ChoresArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    if let Some(ChoresCommand::Done(args)) = &args.command {
        return done(args, app);
    }
    let pattern = args.pattern.as_deref().map(Pattern::parse).transpose()?;
    let (root, ledger) = app.open(&Scope::Whole)?;
    let (outside, keys) = (app.outside(&root), app.keys(&root));
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let planner = Planner { resolver: &resolver, keys: &keys };
    let mut book = daybook::reading(app, &ledger, &root)?;
    let mut open = Vec::new();
    for stage in ledger.stage_ids() {
        let name = ledger.stage(stage).name.as_str();
        if pattern.as_ref().is_some_and(|pattern| !pattern.covers_stage(name)) {
            continue;
        }
        for subject in ledger.subjects_in(stage) {
            let owner = ledger.owner(subject);
            let (unit, instance) = owner.names();
            if pattern
                .as_ref()
                .is_none_or(|pattern| !pattern.has_owner() || pattern.covers_owner(unit, instance))
            {
                let records = records(book.as_deref_mut(), &owner.to_string(), name)?;
                open.extend(open_chores(&planner, subject, stage, &records)?);
            }
        }
    }
    if app.console.is_json() {
        app.console.document(&json::chores::document(&open));
    } else {
        text::chores::print(app.console, &open);
    }
    Ok(status::CLEAN)
}

fn records(
    book: Option<&mut (dyn Daybook + 'static)>,
    owner: &str,
    stage: &str,
) -> Result<Vec<Record>, CliError> {
    Ok(book.map(|book| book.records(&Wanted::of(owner, stage))).transpose()?.unwrap_or_default())
}

/// The chores of a unit in a stage that are not done.
pub(crate) fn open_chores<'l>(
    planner: &Planner<'_, 'l>,
    subject: Subject,
    stage: StageId,
    records: &[Record],
) -> Result<Vec<OpenChore<'l>>, CliError> {
    let ledger: &'l Ledger = planner.resolver.ledger();
    let mut open = Vec::new();
    let deliveries: Vec<&Record> = records.iter().filter(|it| it.meta.kind == Kind::Delivered).collect();
    let last = deliveries.last();
    for chore in all_chores(ledger, subject, stage) {
        let mut done = records.iter().filter(|record| {
            record.meta.kind == Kind::ChoreDone && record.meta.note.as_deref() == Some(&chore.text)
        });
        let is_open = match (&chore.when, last) {
            (When::FirstDelivery, _) => done.next().is_none(),
            (_, None) => false,
            (When::EachDelivery, Some(last)) => !done.any(|record| record.meta.place > last.meta.place),
            (When::Changed(fields), Some(last)) => {
                !done.any(|record| record.meta.place > last.meta.place)
                    && changed(planner, &deliveries, fields)?
            }
        };
        if is_open {
            open.push(OpenChore {
                owner: ledger.owner(subject).to_string(),
                stage: ledger.stage(stage).name.to_string(),
                chore,
                after: last.map(|record| record.meta.number),
            });
        }
    }
    Ok(open)
}

/// Whether the last delivery changed one of these fields against the one before.
fn changed(planner: &Planner<'_, '_>, deliveries: &[&Record], fields: &[String]) -> Result<bool, CliError> {
    let Some((last, before)) = deliveries.split_last() else { return Ok(false) };
    let now = planner.content(last)?;
    let then = before.last().map(|record| planner.content(record)).transpose()?.unwrap_or_default();
    let changes = cledger_core::delivery::field_changes(&values(&then), &values(&now));
    let is_meant = |name: &String| {
        fields.iter().any(|field| name == field || name.split('.').next() == Some(field.as_str()))
    };
    Ok(changes.keys().any(is_meant))
}

fn done(args: &DoneArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let address = without_delivery(Address::parse(&args.address)?)?;
    let (Some(owner), Some(stage), None) = (&address.owner, &address.stage, &address.entry) else {
        let message = format!("`{address}` names no unit in a stage");
        return Err(CliError::usage(message).help("write UNIT[+INSTANCE]@STAGE"));
    };
    let (root, ledger) = app.open(&Scope::Whole)?;
    let id = App::stage(&ledger, Some(stage))?.stage;
    let subject = app.subject_in(&ledger, owner, id)?;
    let texts: Vec<&str> = all_chores(&ledger, subject, id).map(|chore| chore.text.as_str()).collect();
    let meant: Vec<&&str> = texts.iter().filter(|text| text.starts_with(args.text.as_str())).collect();
    let [text] = meant[..] else {
        let message = match meant.len() {
            0 => format!("`{owner}@{stage}` has no chore that begins like this"),
            count => format!("{count} chores of `{owner}@{stage}` begin like this"),
        };
        return Err(CliError::usage(message).help(format!("its chores are: {}", texts.join("; "))));
    };
    let who = daybook::somebody();
    let mut meta = Meta::new(
        &owner.to_string(),
        stage.as_str(),
        Kind::ChoreDone,
        who,
        "done",
        Timestamp::now().to_string(),
    );
    meta.host = daybook::host();
    meta.note = Some((*text).to_owned());
    daybook::open(app, &ledger, &root)?.record(meta, &Packed::default())?;
    if app.console.is_json() {
        app.console.document(&json::chores::document(&[]));
    } else {
        app.console.line(format!("Done, for {owner}@{stage}: {text}"));
    }
    Ok(status::CLEAN)
}
