//! What a ledger may reach.

pub mod daybook;

use std::collections::BTreeSet;

use cledger_core::trust::{Named, of_ledger};
use cledger_store::Remembered;

use crate::opened::Opened;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// One thing that a ledger names, or that it may reach.
#[derive(Debug, Clone)]
pub struct Reached {
    /// The thing.
    pub named: Named,
    /// Where it is named first; nowhere any more if not given.
    pub by: Option<String>,
    /// Whether it may be reached.
    pub is_trusted: bool,
}

/// What a ledger names, and how that stands.
#[derive(Debug, Clone)]
pub struct Trusted {
    /// The ledger's folder.
    pub folder: String,
    /// Its name.
    pub name: String,
    /// Whether somebody has said before what it may reach.
    pub was_before: bool,
    /// What it names, and what it may reach.
    pub reached: Vec<Reached>,
    /// What was done, or would be.
    pub doing: Doing,
    /// Whether it was done.
    pub written: bool,
}

/// What is done about it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Doing {
    /// Let it reach what it names.
    Trust,
    /// Take that back.
    Forget,
}

/// Lets a ledger reach what it names, or takes that back; without `write` it is only shown.
pub fn trust(opened: &Opened, doing: Doing, write: bool) -> Result<Trusted, Trouble> {
    let (state, ledger) = (&opened.at.state, &opened.ledger);
    let trusted = state.recall(&opened.folder, &ledger.name)?.and_then(|known| known.trusted);
    let names = of_ledger(ledger, &opened.surroundings);
    let known = trusted.clone().unwrap_or_default();
    let gone = known.iter().filter(|named| !names.contains_key(*named));
    let mut reached: Vec<Reached> =
        gone.map(|named| Reached { named: named.clone(), by: None, is_trusted: true }).collect();
    reached.extend(names.iter().map(|(named, by)| Reached {
        named: named.clone(),
        by: Some(by.clone()),
        is_trusted: known.contains(named),
    }));
    reached.sort_by(|a, b| a.named.cmp(&b.named));
    if write {
        let all: BTreeSet<Named> = names.into_keys().collect();
        let now = (doing == Doing::Trust).then_some(all);
        state.remember(&opened.folder, &ledger.name, |known| known.trusted = now)?;
    }
    let folder = opened.folder.canonicalize().unwrap_or_else(|_| opened.folder.clone());
    Ok(Trusted {
        folder: folder.display().to_string(),
        name: ledger.name.clone(),
        was_before: trusted.is_some(),
        reached,
        doing,
        written: write,
    })
}

/// All ledgers of which something is remembered, and whether all of that could be read; what could not is told.
pub fn trusted_ledgers(at: &Workplace) -> Result<(Vec<Remembered>, bool), Trouble> {
    let (mut known, mut all_read) = (Vec::new(), true);
    for found in at.state.all()? {
        match found {
            Ok(remembered) => known.push(remembered),
            Err(error) => {
                at.telling.notice(&format!("{error}."));
                all_read = false;
            }
        }
    }
    known.retain(|known| known.trusted.is_some());
    Ok((known, all_read))
}
