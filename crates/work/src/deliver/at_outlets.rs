//! What outlets have, as a status tells it: of each unit and stage whether it has drifted, and what else is there.

use std::collections::BTreeMap;

use cledger_core::address::{Address, Pattern};
use cledger_core::delivery::Waiting;
use cledger_core::model::{Ledger, Stage};

use crate::drift;
use crate::opened::Opened;
use crate::reality::standing::{State, UnitDrift};
use crate::trouble::Trouble;

/// What was seen at outlets.
#[derive(Debug, Default)]
pub(super) struct AtOutlets {
    /// What waits in a unit's stage, with how many names that is, where these are known.
    waiting: BTreeMap<(String, String), BTreeMap<Waiting, Option<usize>>>,
    /// What no unit that belongs in a stage has there.
    pub(super) others: Vec<Other>,
}

/// What is not as the ledger says, and is nothing of a unit or instance that belongs in the stage.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Other {
    /// The stage, or the group where something shared stands.
    pub stage: String,
    /// How it stands.
    pub how: HowElse,
    /// Whose it is.
    pub owner: String,
}

/// How something stands that no unit has which belongs in the stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum HowElse {
    /// It was brought, and does not belong there any more.
    LeftOver,
    /// The ledger does not know it.
    Unknown,
    /// Something shared is not as the ledger says.
    Drifted,
    /// Whether something shared is as the ledger says cannot be told.
    NotKnown,
}

impl AtOutlets {
    /// Looks at whatever these patterns cover, at all that outlets have without one.
    pub(super) fn seen(opened: &Opened, patterns: Vec<Pattern>) -> Result<Self, Trouble> {
        let units = drift::at_outlets(opened, patterns)?;
        let mut seen = Self::default();
        for unit in units.iter().filter(|unit| !unit.is_clean()) {
            seen.take(&opened.ledger, unit);
        }
        seen.others.sort_unstable();
        seen.others.dedup();
        Ok(seen)
    }

    fn take(&mut self, ledger: &Ledger, unit: &UnitDrift) {
        let other = |how| Other { stage: unit.stage.clone(), how, owner: unit.owner.clone() };
        let places = match &unit.state {
            State::LeftOver(_) => return self.others.push(other(HowElse::LeftOver)),
            State::Unknown => return self.others.push(other(HowElse::Unknown)),
            // Nothing was brought: that it is not there is no drift.
            State::NotThere if unit.last.is_none() => return,
            _ => places(ledger, unit),
        };
        let mut tell = |(what, how), names: Option<usize>| {
            if places.is_empty() {
                self.others.push(other(how));
            }
            for stage in &places {
                let of_stage = self.waiting.entry((unit.owner.clone(), stage.clone())).or_default();
                let of = of_stage.entry(what).or_insert(Some(0));
                *of = of.zip(names).map(|(of, names)| of + names);
            }
        };
        if unit.is_known_to_differ() {
            tell((Waiting::Drifted, HowElse::Drifted), unit.drifted_names());
        }
        if unit.is_partly_unknown() {
            tell((Waiting::DriftNotKnown, HowElse::NotKnown), None);
        }
    }

    /// What waits in a stage of a unit or instance.
    pub(super) fn of(&self, owner: &str, stage: &str) -> impl Iterator<Item = (Waiting, Option<usize>)> {
        let of_stage = self.waiting.get(&(owner.to_owned(), stage.to_owned()));
        of_stage.into_iter().flatten().map(|(&what, &count)| (what, count))
    }
}

/// The stages in which a unit or instance is concerned: what is looked up may stand in a group. None where the owner
/// belongs in no stage.
fn places(ledger: &Ledger, unit: &UnitDrift) -> Vec<String> {
    let owner = Address::parse(&unit.owner).ok().and_then(|address| address.owner);
    let Some(owner) = owner else { return Vec::new() };
    let group = ledger.group_id(&unit.stage);
    let is_meant = |stage: &Stage| {
        stage.name.as_str() == unit.stage || group.is_some_and(|group| stage.groups.contains(&group))
    };
    let stages = ledger.stage_ids().filter(|&stage| is_meant(ledger.stage(stage)));
    let stages = stages.filter(|&stage| ledger.subject_of(&owner, stage).is_some());
    stages.map(|stage| ledger.stage(stage).name.to_string()).collect()
}
