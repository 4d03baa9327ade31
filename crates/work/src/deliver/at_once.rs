//! Many units brought at once: first all are brought, so many at a time; then each program that has them taken up
//! runs once; then each is looked at again and recorded.

use std::collections::{BTreeMap, VecDeque};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::thread;

use cledger_outlets::effect::Masking;

use crate::deliver::delivering::{Delivering, InHand};
use crate::deliver::outcome::Delivery;
use crate::deliver::plan::Plan;
use crate::reality::masking::masking_of;
use crate::shared_book::Held;
use crate::trouble::Trouble;

/// How many are brought at once, and what is done where one fails.
#[derive(Clone, Copy)]
pub(super) struct Pace {
    /// How many at once.
    pub(super) at_once: usize,
    /// What there is to do for those that are not begun once one has failed; they are begun all the same without it.
    pub(super) not_begun: Option<&'static str>,
}

/// Makes the deliveries that have a reason, and puts what came of each into it. Those that are `held` already stay so
/// until then.
pub(super) fn all(
    delivering: &Delivering<'_, '_>,
    deliveries: &mut [Delivery],
    reasons: Vec<Option<String>>,
    (pace, held): (Pace, BTreeMap<usize, Held>),
) {
    let work: VecDeque<(usize, String)> =
        reasons.into_iter().enumerate().filter_map(|(at, why)| Some((at, why?))).collect();
    let threads = pace.at_once.clamp(1, work.len().max(1));
    // What was refused before has failed, too.
    let stops = pace.not_begun.is_some();
    let is_over = stops && deliveries.iter().any(Delivery::has_failed);
    let (work, is_over, held) = (Mutex::new(work), AtomicBool::new(is_over), Mutex::new(held));
    let in_hand: Mutex<Vec<(usize, Result<InHand<'_, '_>, Trouble>)>> = Mutex::default();
    let (count, done) = (lock(&work).len(), AtomicUsize::new(0));
    let progress = Mutex::new(delivering.opened.at.telling.begins(count, "deliveries"));
    let plans: Vec<_> = deliveries.iter().map(|delivery| &delivery.plan).collect();
    thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                while !is_over.load(Ordering::SeqCst) {
                    let Some((at, why)) = lock(&work).pop_front() else { return };
                    let kept = lock(&held).remove(&at);
                    let held = kept.map_or_else(|| delivering.hold(plans[at]), Ok);
                    let brought = held.and_then(|held| delivering.bring(plans[at], &why, held));
                    if stops && !brought.as_ref().is_ok_and(InHand::is_well) {
                        is_over.store(true, Ordering::SeqCst);
                    }
                    lock(&progress).ended(&ended(delivering, plans[at], brought.as_ref().err()));
                    lock(&in_hand).push((at, brought));
                    lock(&progress).done(done.fetch_add(1, Ordering::SeqCst) + 1);
                }
            });
        }
    });
    let mut in_hand = in_hand.into_inner().unwrap_or_else(PoisonError::into_inner);
    in_hand.sort_by_key(|(at, _)| *at);
    let masking = masking_for(delivering, deliveries);
    let mut taken_up = Vec::new();
    for (at, brought) in in_hand {
        let taken = brought.and_then(|mut in_hand| {
            delivering.take_up(&mut in_hand, &deliveries[at].plan, &masking)?;
            Ok(in_hand)
        });
        taken_up.push((at, taken));
    }
    for (at, taken) in taken_up {
        let recorded = taken.and_then(|in_hand| delivering.record(in_hand, &deliveries[at].plan));
        match recorded {
            Ok(recorded) => (deliveries[at].brought, deliveries[at].recorded) = recorded,
            Err(trouble) => deliveries[at].trouble = Some(trouble),
        }
    }
    for (at, _) in lock(&work).drain(..) {
        let message = "it was not begun: another delivery failed before";
        deliveries[at].trouble = Some(Trouble::refused(message).help(pace.not_begun.unwrap_or_default()));
    }
}

/// How the bringing of one unit ended, for whoever watches; what came of it in the end is told in the result.
fn ended(delivering: &Delivering<'_, '_>, plan: &Plan, trouble: Option<&Trouble>) -> String {
    let of = format!("{}@{}", plan.owner, delivering.opened.ledger.stage(plan.stage).name);
    match trouble {
        None => format!("{of}: sent to its outlets"),
        Some(trouble) => format!("{of}: not delivered: {trouble}"),
    }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// What hides the secrets of all units: a program that they share may tell those of any.
fn masking_for(delivering: &Delivering<'_, '_>, deliveries: &[Delivery]) -> Masking {
    let resolver = delivering.planner.resolver;
    masking_of(deliveries.iter().filter(|delivery| !delivery.plan.is_idle()).map(|delivery| {
        let plan = &delivery.plan;
        let earlier = if plan.again.is_some() { Some(&plan.content) } else { None };
        (resolver, plan.subject, plan.stage, [earlier, plan.delivered()])
    }))
}
