//! Many units at once: first each is brought, or taken off, so many at a time; then each program that has that taken up
//! runs once; then all are looked at again, as many at a time, and recorded in their order.

use std::sync::atomic::{AtomicBool, Ordering};

use cledger_outlets::effect::Masking;

use crate::asking::Telling;
use crate::deliver::delivering::Recorded;
use crate::several::each;
use crate::trouble::Trouble;

/// How many are brought at once, and what is done where one fails.
#[derive(Clone, Copy)]
pub(super) struct Pace {
    /// How many at once.
    pub(super) at_once: usize,
    /// How many are looked at in the end at once.
    pub(super) looks: usize,
    /// What there is to do for those that are not begun once one has failed; they are begun all the same without it.
    pub(super) not_begun: Option<&'static str>,
    /// Whether one has failed already.
    pub(super) has_failed: bool,
}

impl Pace {
    /// So many at once, whatever fails.
    pub(super) fn of(at_once: usize) -> Self {
        Self { at_once, looks: at_once, not_begun: None, has_failed: false }
    }
}

/// What is done to many units at their outlets. Each has its place among them.
pub(super) trait Tasks: Sync {
    /// One that was brought, or taken off, and is neither taken up nor recorded yet.
    type InHand: Send;

    /// How all of them are called, as of which so many are done.
    const CALLED: &'static str;

    /// Brings one, or takes it off.
    fn bring(&self, at: usize, why: &str) -> Result<Self::InHand, Trouble>;

    /// Whether all of it came where it was to come, as far as that shows by now.
    fn is_well(in_hand: &Self::InHand) -> bool;

    /// How that ended, for whoever watches; what came of it in the end is told in the result.
    fn ended(&self, at: usize, trouble: Option<&Trouble>) -> String;

    /// What hides the secrets of all of these: a program that they share may tell those of any.
    fn masking(&self, in_hand: &[(usize, &Self::InHand)]) -> Masking;

    /// Has one taken up, each program and each call once for all units that share it.
    fn take_up(&self, at: usize, in_hand: &mut Self::InHand, masking: &Masking) -> Result<(), Trouble>;

    /// Waits until it counts, and looks whether it is as it is to be.
    fn settle(&self, at: usize, in_hand: &mut Self::InHand) -> Result<(), Trouble>;

    /// Records what came of it.
    fn record(&self, at: usize, in_hand: Self::InHand) -> Result<Recorded, Trouble>;
}

/// Does those that have a reason, and gives what came of each, by its place.
pub(super) fn all<T: Tasks>(
    tasks: &T,
    telling: &dyn Telling,
    reasons: Vec<Option<String>>,
    pace: Pace,
) -> Vec<(usize, Result<Recorded, Trouble>)> {
    let stops = pace.not_begun.is_some();
    let is_over = AtomicBool::new(stops && pace.has_failed);
    let work: Vec<(usize, String)> =
        reasons.into_iter().enumerate().filter_map(|(at, why)| Some((at, why?))).collect();
    let brought = each(work, pace.at_once, (telling, T::CALLED), |(at, why), tell| {
        if is_over.load(Ordering::SeqCst) {
            let message = format!("it was not begun: another of the {} failed before", T::CALLED);
            let not_begun = Trouble::refused(message).help(pace.not_begun.unwrap_or_default());
            return (at, Err(not_begun));
        }
        let brought = tasks.bring(at, &why);
        if stops && !brought.as_ref().is_ok_and(T::is_well) {
            is_over.store(true, Ordering::SeqCst);
        }
        tell(&tasks.ended(at, brought.as_ref().err()));
        (at, brought)
    });
    let in_hand: Vec<_> = brought.iter().filter_map(|(at, it)| Some((*at, it.as_ref().ok()?))).collect();
    let masking = tasks.masking(&in_hand);
    let taken_up = brought.into_iter().map(|(at, brought)| {
        let taken = brought.and_then(|mut in_hand| {
            tasks.take_up(at, &mut in_hand, &masking)?;
            Ok(in_hand)
        });
        (at, taken)
    });
    let taken_up: Vec<(usize, Result<T::InHand, Trouble>)> = taken_up.collect();
    let settled = each(taken_up, pace.looks, (telling, "looks afterwards"), |(at, taken), _| {
        let settled = taken.and_then(|mut in_hand| {
            tasks.settle(at, &mut in_hand)?;
            Ok(in_hand)
        });
        (at, settled)
    });
    // One after the other: the chain of records has their order.
    let record = |(at, settled): (usize, Result<T::InHand, Trouble>)| {
        (at, settled.and_then(|in_hand| tasks.record(at, in_hand)))
    };
    settled.into_iter().map(record).collect()
}
