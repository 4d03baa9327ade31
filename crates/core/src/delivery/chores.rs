//! What people must do around deliveries.

use std::collections::BTreeSet;

use super::past::{Event, Past, delivery, standing};
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
        When::FirstDelivery | When::AfterFirstDelivery => is_first,
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
        .find(|chore| !is_done(&chore.text, past, 0))
}

/// Whether somebody said after this place in the chain that the chore with this text was done.
fn is_done(text: &str, past: &[Past<'_>], after: u64) -> bool {
    past.iter().any(|past| past.place > after && past.event == Event::ChoreDone(text))
}

/// The texts of the chores that are not done, with the number of the delivery that they follow; before the first
/// one there is none.
pub fn open(
    ledger: &Ledger,
    subject: Subject,
    stage: StageId,
    past: &[Past<'_>],
) -> Vec<(String, Option<u64>)> {
    let last = delivery(past);
    let mut open: Vec<String> = Vec::new();
    for chore in around(ledger, subject, stage) {
        let is_open = match (&chore.when, last) {
            (When::FirstDelivery, _) | (When::AfterFirstDelivery, Some(_)) => !is_done(&chore.text, past, 0),
            (_, None) => false,
            // What a delivery asked for is recorded with it; where it is not, nobody can say that it was not.
            (When::EachDelivery | When::Changed(_), Some(last)) => {
                last.chores.is_none() && !is_done(&chore.text, past, last.place)
            }
        };
        if is_open {
            open.push(chore.text.clone());
        }
    }
    open.extend(still_open(past));
    open.into_iter().map(|text| (text, last.map(|last| last.number))).collect()
}

/// The chores that the last delivery or withdrawal left open, and that are not done since.
pub fn still_open(past: &[Past<'_>]) -> Vec<String> {
    let Some(last) = standing(past) else { return Vec::new() };
    let texts = last.chores.unwrap_or_default().iter();
    texts.filter(|text| !is_done(text, past, last.place)).cloned().collect()
}

/// The texts of the chores that are open after a delivery that changes these fields: those that it asks for, and
/// those from before that nobody has done. What is done once for a unit and stage is not among them.
pub fn open_after(
    ledger: &Ledger,
    subject: Subject,
    stage: StageId,
    past: &[Past<'_>],
    changed: &BTreeSet<&str>,
) -> Vec<String> {
    let mut open = still_open(past);
    for chore in asked_for(ledger, subject, stage, false, changed) {
        if !open.contains(&chore.text) {
            open.push(chore.text.clone());
        }
    }
    open
}
