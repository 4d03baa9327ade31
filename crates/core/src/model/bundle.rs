//! Bundles: units that are delivered, promoted, compared and taken back together.

use super::{Ledger, StageId, Subject, Unit};
use crate::address::{Owner, Pattern};
use crate::name::Name;
use crate::source::Place;

/// Units that belong together.
#[derive(Debug, Clone)]
pub struct Bundle {
    /// Its name.
    pub name: Name,
    /// Its units and instances, as patterns.
    pub units: Vec<Pattern>,
    /// Its version.
    pub version: Option<String>,
    /// What it is for.
    pub about: Option<String>,
    /// Its name in `ledger.toml`.
    pub place: Place,
}

impl Bundle {
    /// What stands in front of its name where a unit's name may stand. No unit can be called so.
    pub const WORD: &'static str = "bundle:";

    /// Whether a unit or instance is one of its members.
    pub fn has(&self, owner: &Owner) -> bool {
        let (unit, instance) = owner.names();
        self.units.iter().any(|pattern| pattern.covers_owner(unit, instance))
    }

    /// Whether a unit or one of its instances is a member.
    pub fn has_of(&self, unit: &Unit) -> bool {
        let names = unit.instances.iter().map(|instance| Some(instance.name.as_str()));
        names
            .chain([None])
            .any(|instance| self.units.iter().any(|it| it.covers_owner(unit.name.as_str(), instance)))
    }
}

impl Ledger {
    /// The bundle of this name.
    pub fn bundle(&self, name: &str) -> Option<&Bundle> {
        self.bundles.iter().find(|bundle| bundle.name.as_str() == name)
    }

    /// The members of a bundle that belong to a stage, in the order of the ledger.
    pub fn members(&self, bundle: &Bundle, stage: StageId) -> Vec<Subject> {
        self.subjects_in(stage).filter(|&subject| bundle.has(&self.owner(subject))).collect()
    }
}
