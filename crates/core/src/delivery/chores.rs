//! What people must do around deliveries.

use std::collections::BTreeSet;

use super::past::{Event, Past, delivery};
use crate::model::{Chore, Ledger, StageId, Subject, When};

/// All chores of a unit and of a stage.
pub fn around(ledger: &Ledger, subject: Subject, stage: StageId) -> impl Iterator<Item = &Chore> {
    let unit = match subject {
        Subject::Unit(unit, _) => Some(unit),
        Subject::Shared => None,
    };
    let of_unit = unit.into_iter().flat_map(|unit| &ledger.unit(unit).chores);
    of_unit.chain(&ledger.stage(stage).chores)
}

/// The chores that a delivery asks for which changes these fields; `is_first` says that there was none before.
pub fn asked_for<'l>(
    ledger: &'l Ledger,
    subject: Subject,
    stage: StageId,
    is_first: bool,
    changed: &BTreeSet<&str>,
) -> Vec<&'l Chore> {
    let asks = |chore: &&Chore| match &chore.when {
        When::EachDelivery => true,
        When::FirstDelivery => is_first,
        When::Changed(fields) => concerns(fields, changed.iter().copied()),
    };
    around(ledger, subject, stage).filter(asks).collect()
}

/// Whether one of these fields, `ENTRY[.FIELD]`, is among those of a chore, `ENTRY` or `ENTRY.FIELD`.
fn concerns<'f>(of_chore: &[String], mut changed: impl Iterator<Item = &'f str>) -> bool {
    changed.any(|name| of_chore.iter().any(|field| name == field || name.split('.').next() == Some(field)))
}

/// The first chore that holds back the first delivery; [`None`] if all are done, or there was a delivery.
pub fn first_not_done<'l>(
    ledger: &'l Ledger,
    subject: Subject,
    stage: StageId,
    past: &[Past<'_>],
) -> Option<&'l Chore> {
    if delivery(past).is_some() {
        return None;
    }
    around(ledger, subject, stage)
        .filter(|chore| chore.when == When::FirstDelivery)
        .find(|chore| !is_done(chore, past, 0))
}

/// Whether somebody said after this place in the chain that a chore was done.
fn is_done(chore: &Chore, past: &[Past<'_>], after: u64) -> bool {
    past.iter().any(|past| past.place > after && past.event == Event::ChoreDone(&chore.text))
}

/// The chores that are not done, with the number of the delivery that they follow; before the first one there is
/// none. `last_changed` gives the fields that the last delivery changed, and is asked only where that matters.
pub fn open<'l, E>(
    ledger: &'l Ledger,
    subject: Subject,
    stage: StageId,
    past: &[Past<'_>],
    mut last_changed: impl FnMut() -> Result<BTreeSet<String>, E>,
) -> Result<Vec<(&'l Chore, Option<u64>)>, E> {
    let last = delivery(past);
    let mut open = Vec::new();
    for chore in around(ledger, subject, stage) {
        let is_open = match (&chore.when, last) {
            (When::FirstDelivery, _) => !is_done(chore, past, 0),
            (_, None) => false,
            (When::EachDelivery, Some(last)) => !is_done(chore, past, last.place),
            (When::Changed(fields), Some(last)) => {
                !is_done(chore, past, last.place)
                    && concerns(fields, last_changed()?.iter().map(String::as_str))
            }
        };
        if is_open {
            open.push((chore, last.map(|last| last.number)));
        }
    }
    Ok(open)
}
