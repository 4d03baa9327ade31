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

/// Since when a chore is open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Since {
    /// Before the first delivery.
    Ever,
    /// Since the delivery with this number.
    Delivery(u64),
    /// Since it was asked for beside a delivery, at this place in the chain.
    Asked(u64),
}

/// The texts of the chores that are not done, each with since when.
pub fn open(ledger: &Ledger, subject: Subject, stage: StageId, past: &[Past<'_>]) -> Vec<(String, Since)> {
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
    let asked = asked_beside(past);
    open.extend(left_open(past).filter(|text| !asked.iter().any(|(known, _)| known == text)).cloned());
    let since = last.map_or(Since::Ever, |last| Since::Delivery(last.number));
    let open = open.into_iter().map(|text| (text, since));
    open.chain(asked.into_iter().map(|(text, place)| (text.clone(), Since::Asked(place)))).collect()
}

/// The chores that the last delivery or withdrawal left open or that were asked for beside one, and that are not done
/// since.
pub fn still_open(past: &[Past<'_>]) -> Vec<String> {
    let asked = asked_beside(past).into_iter().map(|(text, _)| text);
    let mut open: Vec<String> = Vec::new();
    for text in left_open(past).chain(asked) {
        if !open.contains(text) {
            open.push(text.clone());
        }
    }
    open
}

/// The chores that the last delivery or withdrawal left open, and that are not done since.
fn left_open<'p>(past: &[Past<'p>]) -> impl Iterator<Item = &'p String> {
    let last = standing(past).and_then(|last| Some((last.place, last.chores?)));
    let (place, texts) = last.unwrap_or_default();
    texts.iter().filter(move |text| !is_done(text, past, place))
}

/// The chores that were asked for beside a delivery and are not done since, each once, with the place where it was
/// asked for first.
fn asked_beside<'p>(past: &[Past<'p>]) -> Vec<(&'p String, u64)> {
    let mut open: Vec<(&String, u64)> = Vec::new();
    for asking in past.iter().filter(|past| past.event == Event::ChoresAsked) {
        for text in asking.chores.unwrap_or_default() {
            if !is_done(text, past, asking.place) && !open.iter().any(|(known, _)| *known == text) {
                open.push((text, asking.place));
            }
        }
    }
    open
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
