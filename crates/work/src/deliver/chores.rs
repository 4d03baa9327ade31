//! What a person must do around deliveries, and that it was done.

use std::collections::BTreeSet;

use cledger_core::address::{Address, Pattern};
use cledger_core::delivery::{around, open};
use cledger_core::model::{Ledger, StageId, Subject};
use cledger_store::daybook::{Kind, Meta, Packed};

use crate::anchor;
use crate::covering::refuse_idle;
use crate::daybook;
use crate::deliver::recorded::{Metas, meta, past};
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
    /// Whether it is recorded, and not only shown.
    pub written: bool,
}

/// The chores that are open, as far as a pattern covers them.
pub fn chores(opened: &Opened, pattern: Option<&Pattern>) -> Result<Vec<OpenChore>, Trouble> {
    let ledger = &opened.ledger;
    if let Some(pattern) = pattern {
        refuse_idle(ledger, pattern)?;
    }
    let metas = Metas::read(daybook::reading(opened)?.as_deref_mut(), ledger)?;
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
                open.extend(open_chores(ledger, subject, stage, metas.of(&owner.to_string(), name)));
            }
        }
    }
    Ok(open)
}

/// The chores of a unit in a stage that are not done.
pub(crate) fn open_chores(
    ledger: &Ledger,
    subject: Subject,
    stage: StageId,
    metas: &[Meta],
) -> Vec<OpenChore> {
    let history: Vec<_> = metas.iter().map(past).collect();
    let open = open(ledger, subject, stage, &history).into_iter();
    let open = open.map(|(text, after)| OpenChore {
        owner: ledger.owner(subject).to_string(),
        stage: ledger.stage(stage).name.to_string(),
        text,
        after,
    });
    open.collect()
}

/// Records that a chore was done: the one whose text begins like this.
pub fn done(opened: &Opened, address: &Address, text: &str, write: bool) -> Result<ChoreDone, Trouble> {
    let (Some(owner), Some(stage), None) = (&address.owner, &address.stage, &address.entry) else {
        let message = format!("`{address}` names no unit in a stage");
        return Err(Trouble::usage(message).help("write UNIT[+INSTANCE]@STAGE"));
    };
    let ledger = &opened.ledger;
    let id = known_stage(ledger, stage.as_str())?;
    let subject = opened.subject_in(owner, id)?;
    let metas = if write {
        Metas::read(Some(&mut *daybook::open(opened)?), ledger)?
    } else {
        Metas::read(daybook::reading(opened)?.as_deref_mut(), ledger)?
    };
    let known = around(ledger, subject, id).map(|chore| chore.text.clone());
    // One that the contract does not have any more stays until it is done.
    let left = open_chores(ledger, subject, id, metas.of(&owner.to_string(), stage.as_str()));
    let texts: BTreeSet<String> = known.chain(left.into_iter().map(|chore| chore.text)).collect();
    let meant: Vec<&String> = match texts.get(text) {
        Some(whole) => vec![whole],
        None => texts.iter().filter(|known| known.starts_with(text)).collect(),
    };
    let [meant] = meant[..] else {
        let message = match meant.len() {
            0 => format!("`{owner}@{stage}` has no chore that begins like this"),
            count => format!("{count} chores of `{owner}@{stage}` begin like this"),
        };
        let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
        return Err(Trouble::usage(message).help(format!("its chores are: {}", texts.join("; "))));
    };
    let (owner, stage) = (owner.to_string(), stage.to_string());
    if !write {
        return Ok(ChoreDone { owner, stage, text: meant.clone(), written: false });
    }
    let mut book = daybook::open(opened)?;
    let mut meta = meta(opened, &owner, &stage, Kind::ChoreDone, "");
    meta.chore = Some(meant.clone());
    opened.at.stepping.before("record")?;
    let recorded = book.record(meta, &Packed::default(), None)?;
    anchor::hold_fast(opened, &recorded);
    Ok(ChoreDone { owner, stage, text: meant.clone(), written: true })
}
