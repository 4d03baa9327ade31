//! Deliveries that are made at once.

use std::collections::BTreeMap;
use std::sync::Mutex;

use cledger_outlets::effect::Masking;

use crate::deliver::at_once::{self, Pace, Tasks};
use crate::deliver::delivering::{Delivering, InHand, Recorded};
use crate::deliver::outcome::Delivery;
use crate::deliver::plan::Plan;
use crate::reality::masking::masking_of;
use crate::several::lock;
use crate::shared_book::Held;
use crate::trouble::Trouble;

/// Deliveries by their plans.
struct Deliveries<'d, 'a, 'l> {
    delivering: &'d Delivering<'a, 'l>,
    plans: Vec<&'d Plan>,
    /// Those that are held already, until they are brought.
    held: Mutex<BTreeMap<usize, Held>>,
}

/// Makes the deliveries that have a reason, and puts what came of each into it. Those that are `held` already stay so
/// until then.
pub(super) fn make(
    delivering: &Delivering<'_, '_>,
    deliveries: &mut [Delivery],
    reasons: Vec<Option<String>>,
    (pace, held): (Pace, BTreeMap<usize, Held>),
) {
    // What was refused before has failed, too.
    let pace = Pace { has_failed: deliveries.iter().any(Delivery::has_failed), ..pace };
    let plans: Vec<&Plan> = deliveries.iter().map(|delivery| &delivery.plan).collect();
    let tasks = Deliveries { delivering, plans, held: Mutex::new(held) };
    delivering.effects.anew();
    let made = at_once::all(&tasks, &*delivering.opened.at.telling, reasons, pace);
    for (at, recorded) in made {
        match recorded {
            Ok(recorded) => (deliveries[at].brought, deliveries[at].recorded) = recorded,
            Err(trouble) => deliveries[at].trouble = Some(trouble),
        }
    }
}

impl<'a, 'l> Tasks for Deliveries<'_, 'a, 'l> {
    type InHand = InHand<'a, 'l>;

    const CALLED: &'static str = "deliveries";

    fn bring(&self, at: usize, why: &str) -> Result<InHand<'a, 'l>, Trouble> {
        let plan = self.plans[at];
        let held = lock(&self.held).remove(&at);
        let held = held.map_or_else(|| self.delivering.hold(plan), Ok)?;
        self.delivering.bring(plan, why, held)
    }

    fn is_well(in_hand: &InHand<'a, 'l>) -> bool {
        in_hand.is_well()
    }

    fn ended(&self, at: usize, trouble: Option<&Trouble>) -> String {
        let plan = self.plans[at];
        let of = format!("{}@{}", plan.owner, self.delivering.opened.ledger.stage(plan.stage).name);
        match trouble {
            None => format!("{of}: sent to its outlets"),
            Some(trouble) => format!("{of}: not delivered: {trouble}"),
        }
    }

    fn masking(&self, in_hand: &[(usize, &InHand<'a, 'l>)]) -> Masking {
        let resolver = self.delivering.planner.resolver;
        masking_of(in_hand.iter().map(|(at, _)| {
            let plan = self.plans[*at];
            let earlier = if plan.again.is_some() { Some(&plan.content) } else { None };
            (resolver, Some(plan.subject), plan.stage, [earlier, plan.delivered()])
        }))
    }

    fn take_up(&self, at: usize, in_hand: &mut InHand<'a, 'l>, masking: &Masking) -> Result<(), Trouble> {
        self.delivering.take_up(in_hand, self.plans[at], masking)
    }

    fn settle(&self, at: usize, in_hand: &mut InHand<'a, 'l>) -> Result<(), Trouble> {
        self.delivering.settle(in_hand, self.plans[at])
    }

    fn record(&self, at: usize, in_hand: InHand<'a, 'l>) -> Result<Recorded, Trouble> {
        self.delivering.record(in_hand, self.plans[at])
    }
}
