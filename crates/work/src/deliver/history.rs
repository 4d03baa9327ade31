//! What was delivered where, when, by whom and why.

use cledger_core::address::{Address, Delivery, Pattern};
use cledger_store::daybook::{Content, Daybook, Kind, Meta, Record, Wanted, verify};

use crate::daybook;
use crate::opened::Opened;
use crate::trouble::{Kind as TroubleKind, Trouble};

/// What the daybook has.
#[derive(Debug)]
pub struct History {
    /// The records, in the order of the chain.
    pub records: Vec<Record>,
    /// How many there are before these.
    pub more: usize,
    /// What was left open.
    pub opened: Vec<Meta>,
}

/// Whether the chain of records holds.
#[derive(Debug)]
pub struct Verified {
    /// How many records there are.
    pub records: usize,
    /// What is wrong with them, if anything is.
    pub broken: Option<String>,
    /// How many of them have secrets whose key is not at hand, so that they were not looked into.
    pub not_readable: usize,
}

impl Verified {
    /// What kind of trouble there is, if any.
    pub fn kind(&self) -> Option<TroubleKind> {
        self.broken.as_ref().map(|_| TroubleKind::Found)
    }
}

/// A delivery as it was recorded.
#[derive(Debug)]
pub struct Recorded {
    /// The record.
    pub record: Record,
    /// What was delivered.
    pub content: Content,
}

/// The last so many records, as far as a pattern covers them.
pub fn history(opened: &Opened, pattern: Option<&Pattern>, last: usize) -> Result<History, Trouble> {
    let mut book = daybook::required(opened)?;
    let covers = |meta: &Meta| {
        let (unit, instance) = match meta.unit.split_once('+') {
            Some((unit, instance)) => (unit, Some(instance)),
            None => (meta.unit.as_str(), None),
        };
        pattern.is_none_or(|pattern| {
            pattern.covers_stage(&meta.stage)
                && (!pattern.has_owner() || pattern.covers_owner(unit, instance))
        })
    };
    let all = book.records(&Wanted::default())?;
    let mut records: Vec<Record> = all.into_iter().filter(|record| covers(&record.meta)).collect();
    let more = records.len().saturating_sub(last);
    records.drain(..more);
    let opened = book.opened()?.into_iter().map(|(meta, _)| meta).filter(covers).collect();
    Ok(History { records, more, opened })
}

/// Proves the chain, and the secrets as far as they are readable here.
pub fn verified(opened: &Opened) -> Result<Verified, Trouble> {
    let all = daybook::required(opened)?.records(&Wanted::default())?;
    let mut broken = verify(&all).err().map(|broken| broken.to_string());
    let mut not_readable = 0;
    for record in &all {
        let meta = &record.meta;
        match daybook::content(record, &opened.ledger, opened.keys()) {
            Ok(content) => not_readable += usize::from(content.values.values().any(|it| !it.is_readable())),
            Err(_) if broken.is_some() => {}
            Err(_) => {
                broken =
                    Some(format!("{}@{}:{}: its content was changed", meta.unit, meta.stage, meta.number));
            }
        }
    }
    Ok(Verified { records: all.len(), broken, not_readable })
}

/// Copies all records to an empty daybook, and looks whether they have arrived; gives how many there are.
pub fn copy(opened: &Opened, place: &str) -> Result<usize, Trouble> {
    let all = daybook::required(opened)?.records(&Wanted::default())?;
    if let Err(broken) = verify(&all) {
        return Err(Trouble::usage(format!("the daybook is not whole, and is not copied: {broken}"))
            .help("take it back from a backup"));
    }
    let mut other: Box<dyn Daybook> = daybook::at(place)?;
    other.take_over(&all)?;
    let arrived = other.records(&Wanted::default())?;
    if let Err(broken) = verify(&arrived) {
        return Err(Trouble::outside(format!("the copy is not whole: {broken}")));
    }
    if arrived.len() != all.len() {
        return Err(Trouble::outside(format!("{} of {} records have arrived", arrived.len(), all.len())));
    }
    Ok(arrived.len())
}

/// The record that an address names, with what was delivered.
pub fn recorded(opened: &Opened, address: &Address) -> Result<Recorded, Trouble> {
    let record = record(&mut *daybook::required(opened)?, address)?;
    let content = daybook::content(&record, &opened.ledger, opened.keys())?;
    Ok(Recorded { record, content })
}

/// The record that an address names.
pub(crate) fn record(book: &mut dyn Daybook, address: &Address) -> Result<Record, Trouble> {
    let (Some(owner), Some(stage), None) = (&address.owner, &address.stage, &address.entry) else {
        let message = format!("`{address}` names no delivery of a unit");
        return Err(Trouble::usage(message).help("write UNIT@STAGE:NUMBER, or UNIT@STAGE:last"));
    };
    let (owner, stage) = (owner.to_string(), stage.as_str());
    let wanted = match address.delivery {
        Some(Delivery::Number(number)) => Wanted::numbered(&owner, stage, number.into()),
        _ => Wanted::last_of(&owner, stage),
    };
    book.records(&wanted)?.pop().ok_or_else(|| {
        Trouble::usage(format!("there is no delivery `{address}`"))
            .help(format!("`cledger history {owner}@{stage}` lists those that there are"))
    })
}

/// The delivery of a unit to a stage with this number.
pub(crate) fn numbered(
    book: &mut dyn Daybook,
    owner: &str,
    stage: &str,
    number: u64,
) -> Result<Record, Trouble> {
    let wanted = Wanted::numbered(owner, stage, number);
    let record = book.records(&wanted)?.pop().filter(|record| record.meta.kind == Kind::Delivered);
    record.ok_or_else(|| {
        Trouble::usage(format!("there is no delivery `{owner}@{stage}:{number}`"))
            .help(format!("`cledger history {owner}@{stage}` lists them"))
    })
}
