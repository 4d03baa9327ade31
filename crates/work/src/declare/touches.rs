//! Which stages something touches that is declared, apart from their effective values.

use cledger_core::address::Pattern;
use cledger_core::effects::Effect;
use cledger_core::model::{LayerId, Ledger, Rule, StageId};

use super::Thing;
use crate::change::{Changing, Consent};
use crate::trouble::Trouble;

/// What a change of something touches.
#[derive(Debug, Default)]
pub(crate) struct Touches {
    /// Stages whose own tables change: their locks count.
    own: Vec<StageId>,
    /// Stages whose outlets or rules change.
    others: Vec<StageId>,
}

impl Touches {
    /// What is touched as the ledger is.
    pub(crate) fn of(ledger: &Ledger, thing: &Thing) -> Self {
        let stage = |name: &cledger_core::name::Name| ledger.stage_id(name.as_str()).into_iter().collect();
        let mut touches = Self::default();
        match thing {
            Thing::Stage(name) | Thing::Follow(name, _) | Thing::StageChore(name, _) => {
                touches.own = stage(name);
            }
            Thing::Aligned(stages) => {
                touches.others = stages.iter().filter_map(|name| ledger.stage_id(name.as_str())).collect();
            }
            Thing::Outlet(name) => {
                let outlets = ledger.outlets.iter().filter(|it| it.name == *name);
                let mut covered = Vec::new();
                for outlet in outlets {
                    let here = |id: &StageId| outlet.stages.get(usize::from(id.0)).copied().unwrap_or(false);
                    covered.extend(ledger.stage_ids().filter(here));
                }
                touches.others = covered;
            }
            Thing::Rule(name) => {
                let rules = ledger.judging.rules.iter().filter(|it| it.name == *name);
                touches.others = rules.flat_map(|rule| of_rule(ledger, rule)).collect();
            }
            _ => {}
        }
        touches
    }

    /// These and others.
    pub(crate) fn join(mut self, other: Self) -> Self {
        self.own.extend(other.own);
        self.others.extend(other.others);
        self
    }

    /// These and those of the ledger after the change: stages that are new there have nothing to guard yet.
    pub(crate) fn and(self, before: &Ledger, after: &Ledger, thing: &Thing) -> Self {
        let then = Self::of(after, thing);
        let known = |ids: Vec<StageId>| -> Vec<StageId> {
            ids.iter().filter_map(|&id| before.stage_id(after.stage(id).name.as_str())).collect()
        };
        let mut then = Self { own: known(then.own), others: known(then.others) };
        // How bad a finding is decides what is delivered anywhere.
        if *thing == Thing::Ledger && before.judging.severities != after.judging.severities {
            then.others.extend(before.stage_ids());
        }
        self.join(then)
    }

    /// Refuses the change where it is not granted; tells what it needs where it is only shown.
    pub(crate) fn guard(
        &self,
        changing: &Changing,
        effects: &[Effect],
        consent: &Consent,
        writes: bool,
    ) -> Result<(), Trouble> {
        let layers: Vec<LayerId> = self.own.iter().map(|&id| LayerId::Stage(id)).collect();
        if writes {
            changing.guard_with(&layers, &self.others, effects, consent)
        } else {
            changing.tell_needs(&layers, &self.others, effects, consent)
        }
    }
}

fn of_rule(ledger: &Ledger, rule: &Rule) -> Vec<StageId> {
    let counts = |id: &StageId| {
        let stage = ledger.stage(*id);
        let named = |pattern: &Pattern| pattern.covers_stage(stage.name.as_str());
        (rule.classes.is_empty() || rule.classes.contains(&stage.class))
            && (rule.stages.is_empty() || rule.stages.iter().any(named))
    };
    ledger.stage_ids().filter(counts).collect()
}
