//! `cledger history`: what was delivered where, when, by whom and why.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Pattern;
use cledger_store::Scope;
use cledger_store::daybook::{Daybook, Meta, Record, Wanted, verify};

use crate::app::App;
use crate::complete;
use crate::daybook;
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct HistoryArgs {
    /// Whose: UNIT@STAGE, UNIT, @STAGE, or a pattern of these; everything if not given
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "PATTERN")]
    pattern: Option<String>,
    /// Show the last so many
    #[arg(long, value_name = "COUNT", default_value_t = 20)]
    last: usize,
    /// Prove that no record was changed, put in or taken out
    #[arg(long, conflicts_with = "copy_to")]
    verify: bool,
    /// Copy the whole daybook to an empty one: a file, or `postgresql://…` as `CLEDGER_DAYBOOK` has it
    #[arg(long, value_name = "PLACE", conflicts_with = "pattern")]
    copy_to: Option<String>,
}

/// What the daybook has.
pub(crate) struct History {
    pub(crate) records: Vec<Record>,
    /// How many there are beside these.
    pub(crate) more: usize,
    /// What was left open.
    pub(crate) opened: Vec<Meta>,
}

pub(crate) fn run(args: &HistoryArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let pattern = args.pattern.as_deref().map(Pattern::parse).transpose()?;
    let (root, ledger) = app.open(&Scope::Units(std::collections::BTreeSet::new()))?;
    let mut book = daybook::required(app, &ledger, &root)?;
    let all = book.records(&Wanted::default())?;
    if let Some(place) = &args.copy_to {
        return copy(&all, place, app);
    }
    if args.verify {
        let keys = app.keys(&root);
        return Ok(verified(&all, &ledger, &keys, app));
    }
    let covers = |meta: &Meta| {
        let (unit, instance) = match meta.unit.split_once('+') {
            Some((unit, instance)) => (unit, Some(instance)),
            None => (meta.unit.as_str(), None),
        };
        pattern.as_ref().is_none_or(|pattern| {
            pattern.covers_stage(&meta.stage)
                && (!pattern.has_owner() || pattern.covers_owner(unit, instance))
        })
    };
    let mut records: Vec<Record> = all.into_iter().filter(|record| covers(&record.meta)).collect();
    let more = records.len().saturating_sub(args.last);
    records.drain(..more);
    let opened = book.opened()?.into_iter().map(|(meta, _)| meta).filter(covers).collect();
    let history = History { records, more, opened };
    if app.console.is_json() {
        app.console.document(&json::history::document(&history));
    } else {
        text::history::print(app.console, &history);
    }
    Ok(status::CLEAN)
}

/// Proves the chain, and the secrets as far as they are readable here.
fn verified(
    all: &[Record],
    ledger: &cledger_core::model::Ledger,
    keys: &cledger_store::Keys<'_>,
    app: &mut App<'_>,
) -> u8 {
    let mut broken = verify(all).err().map(|broken| broken.to_string());
    let mut not_readable = 0;
    for record in all {
        let meta = &record.meta;
        let of = (meta.unit.as_str(), meta.stage.as_str());
        match daybook::content(of, &record.packed, meta.secrets.as_deref(), ledger, keys) {
            Ok(content) => not_readable += usize::from(content.values.values().any(|it| it.text.is_none())),
            Err(_) if broken.is_some() => {}
            Err(_) => {
                broken =
                    Some(format!("{}@{}:{}: its content was changed", meta.unit, meta.stage, meta.number));
            }
        }
    }
    if app.console.is_json() {
        app.console.document(&json::history::verified(all.len(), broken.as_deref(), not_readable));
    } else {
        text::history::verified(app.console, all.len(), broken.as_deref(), not_readable);
    }
    if broken.is_some() { status::FOUND } else { status::CLEAN }
}

/// Copies all records to an empty daybook, and looks whether they have arrived.
fn copy(all: &[Record], place: &str, app: &mut App<'_>) -> Result<u8, CliError> {
    if let Err(broken) = verify(all) {
        return Err(CliError::usage(format!("the daybook is not whole, and is not copied: {broken}"))
            .help("take it back from a backup"));
    }
    let mut other: Box<dyn Daybook> = daybook::at(place)?;
    other.take_over(all)?;
    let arrived = other.records(&Wanted::default())?;
    if let Err(broken) = verify(&arrived) {
        return Err(CliError::outside(format!("the copy is not whole: {broken}")));
    }
    if arrived.len() != all.len() {
        return Err(CliError::outside(format!("{} of {} records have arrived", arrived.len(), all.len())));
    }
    if app.console.is_json() {
        app.console.document(&json::history::verified(arrived.len(), None, 0));
    } else {
        let records = text::check::counted(arrived.len(), "record");
        app.console.line(format!("Copied {records}, and the copy is whole."));
    }
    Ok(status::CLEAN)
}
