//! Bringing a unit to its outlets, making it count, and looking whether it does: the one way there.

use std::collections::BTreeMap;

use cledger_core::kept::Kept;
use cledger_outlets::bring::NotBrought;
use cledger_outlets::effect::Masking;
use cledger_outlets::held::Held;
use cledger_store::daybook::Left;

use crate::bringing::brought::{Brought, Outcome};
use crate::bringing::effects::Effects;
use crate::bringing::load::load;
use crate::bringing::plan::{Bringing, Planned};
use crate::bringing::sight::{Sight, look, look_again};
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::trouble::Trouble;

/// Where things are brought.
#[derive(Clone, Copy)]
pub(crate) struct Bringer<'o> {
    pub(crate) opened: &'o Opened,
    pub(crate) around: &'o Around<'o>,
    /// What has them taken up.
    pub(crate) effects: &'o Effects<'o>,
}

/// What is brought, and why.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    /// It is to be there.
    Bring,
    /// It finishes what somebody else left open, who may have brought it without having it taken up.
    Finish,
    /// It is taken off.
    TakeOff,
    /// The same, where somebody else left that open.
    FinishTakingOff,
}

/// A unit that was brought, and is not taken up yet.
pub(crate) struct OnItsWay<'o> {
    planned: Vec<Planned<'o>>,
    all: Vec<Brought>,
    purpose: Purpose,
}

impl OnItsWay<'_> {
    /// Whether all of it came where it was to come, as far as that shows by now.
    pub(crate) fn is_well(&self) -> bool {
        self.all.iter().all(Brought::is_well)
    }

    /// What came of it at each outlet.
    pub(crate) fn end(self) -> Vec<Brought> {
        self.all
    }
}

impl<'o> Bringer<'o> {
    /// Looks at the outlets of a unit, and says what bringing it means.
    pub(crate) fn plan(&self, bringing: &Bringing<'_>) -> Result<Vec<Planned<'o>>, Trouble> {
        let of = (bringing.owner, bringing.stage);
        // The files of now, those that were brought before, and those that come back.
        let asked = |outlet: &str| {
            let now = bringing.forms.paths().cloned();
            let before = bringing.baseline.paths(outlet).into_iter().cloned();
            now.chain(before).chain(bringing.from.paths(outlet)).collect()
        };
        let said = |outlet: &str| bringing.said(outlet);
        let sights = look(self.opened, self.around, of, &asked, &said)?;
        Ok(sights.into_iter().map(|sight| Planned::of(sight, bringing)).collect())
    }

    /// Brings what is planned, has it taken up, and looks again.
    pub(crate) fn bring(
        &self,
        planned: Vec<Planned<'o>>,
        bringing: &Bringing<'_>,
        (masking, purpose): (&Masking, Purpose),
    ) -> Result<Vec<Brought>, Trouble> {
        let mut way = self.send(planned, bringing, purpose)?;
        self.take_up(&mut way, bringing, masking)?;
        self.settle(&mut way, bringing)?;
        Ok(way.end())
    }

    /// Brings what is planned.
    pub(crate) fn send(
        &self,
        mut planned: Vec<Planned<'o>>,
        bringing: &Bringing<'_>,
        purpose: Purpose,
    ) -> Result<OnItsWay<'o>, Trouble> {
        let ledger = &*self.opened.ledger;
        let (owner, stage) = (bringing.owner.to_string(), ledger.stage(bringing.stage).name.to_string());
        planned.retain(|planned| !planned.sight.place.is_process());
        for outlet in planned.iter().filter_map(|it| it.sight.place.outlet) {
            self.effects.note(&outlet.effect, bringing.owner, bringing.stage)?;
        }
        let (mut all, mut loads, mut at) = (Vec::new(), Vec::new(), Vec::new());
        for (index, this) in planned.iter_mut().enumerate() {
            let load = load(this, &owner)?;
            let outcome = match (this.at.reason(), load) {
                (Some(reason), _) => Outcome::Failed(reason.to_owned()),
                (None, None) => Outcome::AsItShouldBe,
                (None, Some(load)) => {
                    loads.push(load);
                    at.push(index);
                    Outcome::Brought
                }
            };
            let (outlet, kind) = (this.at.outlet.clone(), this.at.kind);
            let (owner, stage) = (owner.clone(), stage.clone());
            let is_withdrawal = matches!(purpose, Purpose::TakeOff | Purpose::FinishTakingOff);
            all.push(Brought { owner, stage, outlet, kind, outcome, is_withdrawal, effect: None });
        }
        self.opened.at.stepping.before("bring")?;
        for (&index, brought) in at.iter().zip(cledger_outlets::bring::bring(loads)) {
            all[index].outcome = match brought {
                Ok(()) => Outcome::Brought,
                Err(NotBrought::ChangedMeanwhile) => Outcome::ChangedMeanwhile,
                Err(NotBrought::Failed(reason)) => Outcome::Failed(reason),
                Err(NotBrought::InPart(reason)) => Outcome::InPart(reason),
                Err(NotBrought::NotKnown(reason)) => Outcome::NotKnown(reason),
            };
        }
        let lost: Vec<usize> = at.into_iter().filter(|&index| !is_settled(&all[index].outcome)).collect();
        look_back(&planned, &lost, bringing, &mut all);
        Ok(OnItsWay { planned, all, purpose })
    }

    /// Has what was brought taken up.
    pub(crate) fn take_up(
        &self,
        way: &mut OnItsWay<'_>,
        bringing: &Bringing<'_>,
        masking: &Masking,
    ) -> Result<(), Trouble> {
        self.opened.at.stepping.before("have it taken up")?;
        for (planned, brought) in way.planned.iter().zip(&mut way.all) {
            let is_new = match brought.outcome {
                Outcome::Brought => true,
                Outcome::AsItShouldBe => {
                    planned.at.not_in_effect
                        || matches!(way.purpose, Purpose::Finish | Purpose::FinishTakingOff)
                }
                _ => false,
            };
            let effect = planned.sight.place.outlet.map(|outlet| &outlet.effect);
            if let (true, Some(effect)) = (is_new, effect) {
                let of = (bringing.owner, bringing.stage);
                brought.effect = self.effects.take_up(effect, of, masking)?;
            }
        }
        Ok(())
    }

    /// Waits until what was taken up counts, and looks whether all of it is there in the end.
    pub(crate) fn settle(&self, way: &mut OnItsWay<'_>, bringing: &Bringing<'_>) -> Result<(), Trouble> {
        for (planned, brought) in way.planned.iter().zip(&mut way.all) {
            let effect = planned.sight.place.outlet.map(|outlet| &outlet.effect);
            if let (Some(Ok(())), Some(effect)) = (&brought.effect, effect) {
                let of = (bringing.owner, bringing.stage, bringing.from);
                let ready = self.effects.ready(effect, of)?;
                // Where nothing was woken and nothing is to be seen, nothing is known of it.
                brought.effect = ready.or(if effect.wake.is_empty() { None } else { Some(Ok(())) });
            }
        }
        let brought = way.all.iter().enumerate().filter(|(_, it)| it.outcome == Outcome::Brought);
        let brought: Vec<usize> = brought.map(|(index, _)| index).collect();
        look_back(&way.planned, &brought, bringing, &mut way.all);
        Ok(())
    }
}

/// Looks whether outlets hold what was brought: one may say so, and not; and an answer may be lost, but not
/// what it was about.
fn look_back(planned: &[Planned<'_>], which: &[usize], bringing: &Bringing<'_>, all: &mut [Brought]) {
    let sights: Vec<&Sight<'_>> = which.iter().map(|&index| &planned[index].sight).collect();
    for (&index, held) in which.iter().zip(look_again(&sights, &bringing.owner.to_string())) {
        if let Held::NotKnown(_) = held {
            continue;
        }
        let sight = Sight { place: planned[index].sight.place.clone(), held, tables: None };
        let again = Planned::of(sight, bringing);
        let holds = again.at.is_as_it_should_be();
        let outcome = &mut all[index].outcome;
        match outcome {
            Outcome::Brought if !holds && again.at.reason().is_none() => *outcome = Outcome::NotHeld,
            Outcome::NotKnown(_) | Outcome::InPart(_) if holds => *outcome = Outcome::Brought,
            _ => {}
        }
    }
}

/// Whether it needs no further look how bringing something ended.
fn is_settled(outcome: &Outcome) -> bool {
    !matches!(outcome, Outcome::NotKnown(_) | Outcome::InPart(_))
}

/// What is overwritten and is nobody's here, by the keys that it is kept under.
pub(crate) fn kept_before(planned: &[Planned<'_>], has_key: bool) -> BTreeMap<String, Kept> {
    let parts = planned.iter().flat_map(|planned| &planned.parts);
    let kept = parts.filter_map(|part| {
        // Without a key only what must be kept is: it is refused then.
        let whole = part.before.as_ref().filter(|_| has_key || part.before_is_needed);
        whole.or(part.before_alike.as_ref()).cloned()
    });
    kept.collect()
}

/// What stays as it is there.
pub(crate) fn left(planned: &[Planned<'_>]) -> Vec<Left> {
    let parts = planned.iter().flat_map(|planned| &planned.parts);
    parts.filter_map(|part| part.left.clone()).collect()
}
