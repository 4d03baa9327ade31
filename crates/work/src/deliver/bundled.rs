//! The units of a bundle delivered together: all of them are held and looked at before the first is brought.

use std::collections::BTreeMap;

use cledger_core::delivery::Arrived;
use cledger_store::daybook::{AnswerState, Kind, Member};

use crate::deliver::at_once::Pace;
use crate::deliver::deliveries;
use crate::deliver::delivering::Delivering;
use crate::deliver::outcome::{Delivered, Delivery};
use crate::deliver::recorded::arrived;
use crate::several::each;
use crate::shared_book::Held;
use crate::trouble::Trouble;

/// What there is to do for units that are not begun.
const NOT_BEGUN: &str = "mend what failed, and deliver the bundle again: it goes on with the rest";

impl Delivering<'_, '_> {
    /// Delivers the units that have a reason, in the order in which they are given, and records what came of the bundle.
    /// Where one of them may not be brought, none is; where one fails, those behind it are not begun.
    pub(super) fn together(
        &mut self,
        delivered: &mut Delivered,
        reasons: Vec<Option<String>>,
    ) -> Result<(), Trouble> {
        let Delivered { together: Some(together), deliveries, .. } = delivered else { return Ok(()) };
        let _own = Held::take(&self.book, &together.unit(), &together.stage)?;
        let held = self.hold_all(deliveries, &reasons)?;
        let given = self.asked.consent.why.as_deref();
        let why = given.map_or_else(|| whole_reason(deliveries, &reasons), str::to_owned);
        let pace = Pace { at_once: 1, not_begun: Some(NOT_BEGUN), ..Pace::of(self.asked.at_once) };
        deliveries::make(self, deliveries, reasons, (pace, held));
        let members = deliveries.iter().filter_map(member).collect();
        together.record(self.opened, &mut self.book, (Kind::BundleDelivered, self.asked.again), &why, members)
    }

    /// Holds all units that are to be brought, in the order of their names, so that two bundles never wait for each
    /// other; and then looks at each once more.
    fn hold_all(
        &self,
        deliveries: &[Delivery],
        reasons: &[Option<String>],
    ) -> Result<BTreeMap<usize, Held>, Trouble> {
        let mut order: Vec<usize> = (0..deliveries.len()).filter(|&at| reasons[at].is_some()).collect();
        order.sort_by_key(|&at| &deliveries[at].plan.owner);
        let mut all = BTreeMap::new();
        for at in order {
            all.insert(at, self.hold(&deliveries[at].plan)?);
        }
        let telling = &*self.opened.at.telling;
        let looked =
            each(all.iter_mut().collect(), self.asked.at_once, (telling, "units"), |(at, held), _| {
                self.look_again(&deliveries[*at].plan, held).map(drop)
            });
        looked.into_iter().collect::<Result<(), Trouble>>()?;
        Ok(all)
    }
}

/// The reasons that were made for each.
fn whole_reason(deliveries: &[Delivery], reasons: &[Option<String>]) -> String {
    let given = deliveries.iter().zip(reasons).filter_map(|(delivery, why)| Some((delivery, why.as_ref()?)));
    let all: Vec<_> = given.collect();
    if all.is_empty() {
        return "All of it was there already.".to_owned();
    }
    let each = all.iter().map(|(delivery, why)| format!("{}: {why}", delivery.plan.owner));
    each.collect::<Vec<_>>().join(" ")
}

/// What came of a unit of the bundle; nothing of one that no outlet takes.
fn member(delivery: &Delivery) -> Option<Member> {
    let plan = &delivery.plan;
    if plan.is_nowhere() {
        return None;
    }
    let last = plan.last.as_ref().map(|(record, _)| record.meta.number);
    let (number, state) = match &delivery.recorded {
        Some(record) => {
            let state = match arrived(&record.meta) {
                Arrived::Whole => AnswerState::Brought,
                Arrived::InPart => AnswerState::InPart,
                Arrived::NotKnown => AnswerState::NotKnown,
            };
            (Some(record.meta.number), state)
        }
        None if delivery.has_failed() => (last, AnswerState::NotBrought),
        None => (last, AnswerState::AsItShouldBe),
    };
    Some(Member { unit: plan.owner.clone(), number, state })
}
