//! Which stages can get values from the settings of a layer.

use std::collections::BTreeSet;
use std::sync::Arc;

use rayon::prelude::*;

use super::{LayerId, Ledger, SharedId, StageId, Unit};
use crate::reference::Target;

impl Ledger {
    /// The stages in which values can hang on settings of these layers: their own, those of the groups, and those that
    /// follow one of them. [`None`] where it can be all, since a text names one of these by its name.
    pub fn stages_hanging_on(&self, layers: impl IntoIterator<Item = LayerId>) -> Option<BTreeSet<StageId>> {
        let mut found = BTreeSet::new();
        for layer in layers {
            match layer {
                LayerId::Stage(stage) => drop(found.insert(stage)),
                LayerId::Group(group) => {
                    found.extend(self.stage_ids().filter(|&id| self.stage(id).groups.contains(&group)));
                }
            }
        }
        // A stage that follows one of these can get its values from there.
        loop {
            let follows = |id: &StageId| self.stage(*id).follows.iter().any(|it| found.contains(&it.stage));
            let more: Vec<StageId> =
                self.stage_ids().filter(|id| !found.contains(id)).filter(follows).collect();
            if more.is_empty() {
                break;
            }
            found.extend(more);
        }
        (!self.is_named(&found)).then_some(found)
    }

    /// Whether a text refers to a value of one of these stages by the stage's name, as any other stage's values may.
    fn is_named(&self, stages: &BTreeSet<StageId>) -> bool {
        let names_one = |target: Target| match target {
            Target::Own(field) | Target::OfUnit(_, _, field) | Target::OfShared(field) => {
                let stage = field.stage.and_then(|name| self.stage_id(name.as_str()));
                stage.is_some_and(|id| stages.contains(&id))
            }
            _ => false,
        };
        let of_unit = |unit: &Arc<Unit>| {
            let mut found = false;
            // A stage stands behind an `@`.
            unit.each_reference(&mut |inside| {
                found |= inside.contains('@') && Target::parse(inside).is_ok_and(names_one);
            });
            found
        };
        let mut found = false;
        let shared = (0_u16..).take(self.shared.len()).map(SharedId);
        shared.for_each(|id| self.each_target_of_shared(id, &mut |target| found |= names_one(target)));
        found || self.units.par_iter().any(of_unit)
    }
}
