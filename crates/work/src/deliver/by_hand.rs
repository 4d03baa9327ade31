//! Outlets that this program cannot reach: a person brings things there, and says so by doing a chore.

use cledger_core::address::Owner;
use cledger_core::model::{Ledger, StageId};
use cledger_store::daybook::{AnswerState, Kind, Meta};

use crate::bringing::brought::{Brought, Outcome};

/// The outlets of a unit in a stage that are reached by hand, each with what to do.
pub(crate) fn outlets<'l>(
    ledger: &'l Ledger,
    owner: &Owner,
    stage: StageId,
) -> impl Iterator<Item = (&'l str, &'l str)> {
    let taking: Vec<_> = ledger.outlets.iter().filter(|outlet| outlet.takes(stage, owner.names())).collect();
    taking.into_iter().filter_map(|outlet| Some((outlet.name.as_str(), outlet.by_hand()?)))
}

/// What is said of them where something has to be brought there, or taken off.
pub(crate) fn brought(
    ledger: &Ledger,
    owner: &Owner,
    stage: StageId,
    takes_off: Option<u64>,
) -> Vec<Brought> {
    let to_do = |chore: &str| match takes_off {
        Some(number) => format!("take off what delivery {number} brought ({chore})"),
        None => chore.to_owned(),
    };
    let all = outlets(ledger, owner, stage).map(|(outlet, chore)| Brought {
        owner: owner.to_string(),
        stage: ledger.stage(stage).name.to_string(),
        outlet: outlet.to_owned(),
        kind: "by-hand",
        outcome: Outcome::ByHand(to_do(chore)),
        is_withdrawal: takes_off.is_some(),
        effect: None,
    });
    all.collect()
}

/// The chores that these ask for.
pub(crate) fn chores(brought: &[Brought]) -> impl Iterator<Item = String> {
    brought.iter().filter_map(|brought| match &brought.outcome {
        Outcome::ByHand(chore) => Some(chore.clone()),
        _ => None,
    })
}

/// Whether a record waits for somebody to bring it by hand, as far as these records of the unit in the stage say.
pub(crate) fn is_awaited<'m>(meta: &Meta, all: impl Iterator<Item = &'m Meta>) -> bool {
    let done: Vec<&str> = all
        .filter(|other| other.kind == Kind::ChoreDone && other.place > meta.place)
        .filter_map(|other| other.chore.as_deref())
        .collect();
    let mut by_hand = meta.outlets.iter().filter(|answer| answer.state == AnswerState::ByHand);
    by_hand.any(|answer| answer.reason.as_deref().is_none_or(|chore| !done.contains(&chore)))
}
