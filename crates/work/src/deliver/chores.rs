//! What a person must do around deliveries, and that it was done.

use std::collections::BTreeSet;

use cledger_core::address::{Address, Pattern};
use cledger_core::delivery::{around, field_changes, open};
use cledger_core::model::{StageId, Subject};
use cledger_store::daybook::{Daybook, Kind, Packed, Record, Wanted};

use crate::daybook;
use crate::deliver::recorded::{Planner, meta, past};
use crate::meant::known_stage;
use crate::opened::Opened;
use crate::trouble::Trouble;

/// A chore that is open.
#[derive(Debug, Clone)]
pub struct OpenChore {
    /// Of which unit or instance.
    pub owner: String,
    /// In which stage.
    pub stage: String,
    /// What to do.
    pub text: String,
    /// After which delivery; before the first one if none.
    pub after: Option<u64>,
}

/// A chore that was done.
#[derive(Debug, Clone)]
pub struct ChoreDone {
    /// Of which unit or instance.
    pub owner: String,
    /// In which stage.
    pub stage: String,
    /// What was done.
    pub text: String,
}

/// The chores that are open, as far as a pattern covers them.
pub fn chores(opened: &Opened, pattern: Option<&Pattern>) -> Result<Vec<OpenChore>, Trouble> {
    let ledger = &opened.ledger;
    let resolver = opened.resolver();
    let planner = Planner { resolver: &resolver, keys: opened.keys() };
    let mut book = daybook::reading(opened)?;
    let mut open = Vec::new();
    for stage in ledger.stage_ids() {
        let name = ledger.stage(stage).name.as_str();
        if pattern.is_some_and(|pattern| !pattern.covers_stage(name)) {
            continue;
        }
        for subject in ledger.subjects_in(stage) {
            let owner = ledger.owner(subject);
            let (unit, instance) = owner.names();
            if pattern.is_none_or(|pattern| !pattern.has_owner() || pattern.covers_owner(unit, instance)) {
                let records = records(book.as_deref_mut(), &owner.to_string(), name)?;
                open.extend(open_chores(&planner, subject, stage, &records)?);
            }
        }
    }
    Ok(open)
}

fn records(
    book: Option<&mut (dyn Daybook + 'static)>,
    owner: &str,
    stage: &str,
) -> Result<Vec<Record>, Trouble> {
    Ok(book.map(|book| book.records(&Wanted::of(owner, stage))).transpose()?.unwrap_or_default())
}

/// The chores of a unit in a stage that are not done.
pub(crate) fn open_chores(
    planner: &Planner<'_, '_>,
    subject: Subject,
    stage: StageId,
    records: &[Record],
) -> Result<Vec<OpenChore>, Trouble> {
    let ledger = planner.resolver.ledger();
    let history: Vec<_> = records.iter().map(past).collect();
    let open = open(ledger, subject, stage, &history, || last_changed(planner, records))?;
    let open = open.into_iter().map(|(chore, after)| OpenChore {
        owner: ledger.owner(subject).to_string(),
        stage: ledger.stage(stage).name.to_string(),
        text: chore.text.clone(),
        after,
    });
    Ok(open.collect())
}

/// The fields that the last delivery changed against the one before.
fn last_changed(planner: &Planner<'_, '_>, records: &[Record]) -> Result<BTreeSet<String>, Trouble> {
    let mut deliveries = records.iter().rev().filter(|record| record.meta.kind == Kind::Delivered);
    let content = |record: Option<&Record>| record.map(|record| planner.content(record)).transpose();
    let (now, then) = (content(deliveries.next())?, content(deliveries.next())?);
    let (now, then) = (now.unwrap_or_default(), then.unwrap_or_default());
    Ok(field_changes(&then.values, &now.values).into_keys().collect())
}

/// Records that a chore was done: the one whose text begins like this.
pub fn done(opened: &Opened, address: &Address, text: &str) -> Result<ChoreDone, Trouble> {
    let (Some(owner), Some(stage), None) = (&address.owner, &address.stage, &address.entry) else {
        let message = format!("`{address}` names no unit in a stage");
        return Err(Trouble::usage(message).help("write UNIT[+INSTANCE]@STAGE"));
    };
    let ledger = &opened.ledger;
    let id = known_stage(ledger, stage.as_str())?;
    let subject = opened.subject_in(owner, id)?;
    let texts: Vec<&str> = around(ledger, subject, id).map(|chore| chore.text.as_str()).collect();
    let meant: Vec<&str> = texts.iter().copied().filter(|known| known.starts_with(text)).collect();
    let [meant] = meant[..] else {
        let message = match meant.len() {
            0 => format!("`{owner}@{stage}` has no chore that begins like this"),
            count => format!("{count} chores of `{owner}@{stage}` begin like this"),
        };
        return Err(Trouble::usage(message).help(format!("its chores are: {}", texts.join("; "))));
    };
    let (owner, stage) = (owner.to_string(), stage.to_string());
    let mut meta = meta(opened, &owner, &stage, Kind::ChoreDone, "");
    meta.chore = Some(meant.to_owned());
    daybook::open(opened)?.record(meta, &Packed::default())?;
    Ok(ChoreDone { owner, stage, text: meant.to_owned() })
}
