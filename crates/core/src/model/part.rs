//! What was read of a ledger that was not read whole.

use std::collections::{BTreeMap, BTreeSet};

use super::{Ledger, StageId};
use crate::name::Name;

/// The parts of a ledger that were read for the sake of some values. What is not among them is not known, rather than
/// not there.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Part {
    /// For each unit, the stages whose layers were read for it; for what is shared by itself, with no name.
    pub stages: BTreeMap<Option<Name>, BTreeSet<StageId>>,
    /// The names of all units, where one of these is not there: the nearest one may be meant.
    pub names: Vec<Name>,
}

impl Part {
    /// Adds an owner in a stage; whether it is new.
    pub fn add(&mut self, owner: Option<Name>, stage: StageId) -> bool {
        self.stages.entry(owner).or_default().insert(stage)
    }

    /// Whether the layers of a stage were read for an owner.
    pub fn has(&self, owner: Option<&Name>, stage: StageId) -> bool {
        self.stages.get(&owner.cloned()).is_some_and(|stages| stages.contains(&stage))
    }
}

impl Ledger {
    /// Whether what counts in a stage for a unit was read, or for shared entries by themselves.
    pub fn has_read(&self, owner: Option<&Name>, stage: StageId) -> bool {
        self.part.as_ref().is_none_or(|part| part.has(owner, stage))
    }

    /// The names of the units that are known, also of those that were not read.
    pub fn unit_names(&self) -> impl Iterator<Item = &str> {
        let others = self.part.iter().flat_map(|part| &part.names).map(Name::as_str);
        self.units.iter().map(|unit| unit.name.as_str()).chain(others)
    }
}
