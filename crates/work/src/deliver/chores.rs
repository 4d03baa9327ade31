//! What a person must do around deliveries, and that it was done.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::address::Pattern;
use cledger_core::delivery::{Since, around, open, still_open};
use cledger_core::model::{Ledger, StageId, Subject};
use cledger_store::daybook::{Kind, Packed};

use crate::anchor;
use crate::covering::{meant, refuse_idle};
use crate::daybook;
use crate::deliver::recorded::{Metas, meta, past};
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
    /// Since when it is open.
    pub since: OpenSince,
}

/// Since when a chore is open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OpenSince {
    /// Before the first delivery.
    Ever,
    /// Since the delivery with this number.
    Delivery(u64),
    /// Since this time (RFC 3339), at which it was asked for beside a delivery.
    Time(String),
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

/// Chores that were done.
#[derive(Debug, Clone)]
pub struct ChoresDone {
    /// One for each unit and stage.
    pub done: Vec<ChoreDone>,
    /// Whether that is recorded, and not only shown.
    pub written: bool,
}

/// The chores that are open, as far as patterns or bundles cover them; all without one.
pub fn chores(opened: &Opened, texts: &[String]) -> Result<Vec<OpenChore>, Trouble> {
    let ledger = &opened.ledger;
    let patterns = meant(ledger, texts)?;
    let metas = Metas::read(daybook::reading(opened)?.as_deref_mut(), ledger)?;
    let covered = covered(ledger, &patterns);
    Ok(covered.flat_map(|(subject, stage)| open_chores(ledger, subject, stage, &metas)).collect())
}

/// The units and instances in their stages, as far as patterns cover them; all without one.
fn covered(ledger: &Ledger, patterns: &[Pattern]) -> impl Iterator<Item = (Subject, StageId)> {
    let is_meant = move |&(subject, stage): &(Subject, StageId)| {
        let covers = |pattern: &Pattern| {
            let owner = ledger.owner(subject);
            let (unit, instance) = owner.names();
            pattern.covers_stage(ledger.stage(stage).name.as_str())
                && (!pattern.has_owner() || pattern.covers_owner(unit, instance))
        };
        patterns.is_empty() || patterns.iter().any(covers)
    };
    let of_stage = |stage| ledger.subjects_in(stage).map(move |subject| (subject, stage));
    ledger.stage_ids().flat_map(of_stage).filter(is_meant)
}

/// The chores of a unit in a stage that are not done.
pub(crate) fn open_chores(
    ledger: &Ledger,
    subject: Subject,
    stage: StageId,
    metas: &Metas,
) -> Vec<OpenChore> {
    let (owner, name) = (ledger.owner(subject).to_string(), ledger.stage(stage).name.to_string());
    let metas = metas.of(&owner, &name);
    let history: Vec<_> = metas.iter().map(past).collect();
    let since = |since: Since| match since {
        Since::Ever => OpenSince::Ever,
        Since::Delivery(number) => OpenSince::Delivery(number),
        Since::Asked(place) => {
            let asking = metas.iter().find(|meta| meta.place == place);
            OpenSince::Time(asking.map(|meta| meta.time.clone()).unwrap_or_default())
        }
    };
    let open = open(ledger, subject, stage, &history).into_iter();
    let open = open.map(|(text, when)| OpenChore {
        owner: owner.clone(),
        stage: name.clone(),
        text,
        since: since(when),
    });
    open.collect()
}

/// Records that chores were done: in each unit and stage that the pattern covers the open one whose text begins like
/// this. Of a single unit and stage it may be one that is not open yet.
pub fn done(opened: &Opened, pattern: &Pattern, text: &str, write: bool) -> Result<ChoresDone, Trouble> {
    if !pattern.has_owner() || !pattern.has_stage() || pattern.has_entry() {
        let message = format!("`{pattern}` names no unit in a stage");
        return Err(Trouble::usage(message).help("write UNIT[+INSTANCE]@STAGE, or a pattern of these"));
    }
    let ledger = &opened.ledger;
    refuse_idle(ledger, pattern)?;
    let metas = if write {
        Metas::read(Some(&mut *daybook::open(opened)?), ledger)?
    } else {
        Metas::read(daybook::reading(opened)?.as_deref_mut(), ledger)?
    };
    let covered: Vec<_> = covered(ledger, std::slice::from_ref(pattern)).collect();
    let mut known = BTreeSet::new();
    let mut meant = Vec::new();
    for &(subject, stage) in &covered {
        let open = open_chores(ledger, subject, stage, &metas);
        let mut texts: BTreeSet<String> = open.into_iter().map(|chore| chore.text).collect();
        if covered.len() == 1 {
            texts.extend(around(ledger, subject, stage).map(|chore| chore.text.clone()));
        }
        let of = (ledger.owner(subject).to_string(), ledger.stage(stage).name.to_string());
        if let Some(text) = beginning(&texts, text, &of)? {
            meant.push(ChoreDone { owner: of.0, stage: of.1, text });
        }
        known.append(&mut texts);
    }
    if meant.is_empty() {
        let message = format!("no chore of `{pattern}` begins like this");
        let help = if known.is_empty() {
            "no chore is open there: `cledger chores` lists all".to_owned()
        } else {
            listed(&known)
        };
        return Err(Trouble::usage(message).help(help));
    }
    if write {
        let mut book = daybook::open(opened)?;
        for ChoreDone { owner, stage, text } in &meant {
            let mut meta = meta(opened, owner, stage, Kind::ChoreDone, "");
            meta.chore = Some(text.clone());
            opened.at.stepping.before("record")?;
            let recorded = book.record(meta, &Packed::default(), None)?;
            anchor::hold_fast(opened, &recorded);
        }
    }
    Ok(ChoresDone { done: meant, written: write })
}

/// The one text that is this or begins like this.
fn beginning(
    texts: &BTreeSet<String>,
    text: &str,
    (owner, stage): &(String, String),
) -> Result<Option<String>, Trouble> {
    if let Some(whole) = texts.get(text) {
        return Ok(Some(whole.clone()));
    }
    let meant: Vec<&String> = texts.iter().filter(|known| known.starts_with(text)).collect();
    match meant[..] {
        [] => Ok(None),
        [only] => Ok(Some(only.clone())),
        _ => {
            let message = format!("{} chores of `{owner}@{stage}` begin like this", meant.len());
            Err(Trouble::usage(message).help(listed(texts)))
        }
    }
}

/// How many chores a message names.
const NAMED: usize = 5;

/// What chores there are, for whoever has named none of them.
fn listed(texts: &BTreeSet<String>) -> String {
    let named: Vec<&str> = texts.iter().take(NAMED).map(String::as_str).collect();
    let more = match texts.len().saturating_sub(NAMED) {
        0 => String::new(),
        more => format!("; and {more} more, which `cledger chores` lists"),
    };
    format!("the chores are: {}{more}", named.join("; "))
}

/// Chores that are asked for beside a delivery: their texts by unit or instance and stage.
pub(crate) type Asked = BTreeMap<(String, String), BTreeSet<String>>;

/// Records that chores are asked for beside a delivery, as far as they are not open there already.
pub(crate) fn ask(opened: &Opened, asked: &Asked, why: &str) -> Result<(), Trouble> {
    let mut book = daybook::open(opened)?;
    let metas = Metas::read(Some(&mut *book), &opened.ledger)?;
    for ((owner, stage), texts) in asked {
        let history: Vec<_> = metas.of(owner, stage).iter().map(past).collect();
        let open = still_open(&history);
        let texts: Vec<String> = texts.iter().filter(|text| !open.contains(text)).cloned().collect();
        if texts.is_empty() {
            continue;
        }
        let mut meta = meta(opened, owner, stage, Kind::ChoresAsked, why);
        meta.chores = Some(texts);
        let recorded = book.record(meta, &Packed::default(), None)?;
        anchor::hold_fast(opened, &recorded);
    }
    Ok(())
}
