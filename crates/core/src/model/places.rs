//! Where units and their instances belong: by stage, by unit, and as addresses name it.

use super::{Ledger, StageId, Subject, UnitId};
use crate::address::{Address, Owner};

impl Ledger {
    /// A unit and its instances, as far as they belong to a stage.
    pub fn unit_subjects_in(&self, unit: UnitId, stage: StageId) -> impl Iterator<Item = Subject> {
        let here = self.unit(unit).belongs_to(stage, None).then_some(None);
        let instances = here.into_iter().flat_map(move |_| self.unit(unit).instances_in(stage).map(Some));
        here.into_iter().chain(instances).map(move |instance| Subject::Unit(unit, instance))
    }

    /// The units and instances that belong to a stage, by name.
    pub fn subjects_in(&self, stage: StageId) -> impl Iterator<Item = Subject> {
        self.unit_ids().flat_map(move |unit| self.unit_subjects_in(unit, stage))
    }

    /// A unit and its instances, wherever they belong, by stage.
    pub fn places_of(&self, unit: UnitId) -> impl Iterator<Item = (Subject, StageId)> {
        let in_stage = move |stage| self.unit_subjects_in(unit, stage).map(move |subject| (subject, stage));
        self.stage_ids().flat_map(in_stage)
    }

    /// A subject in a stage as an address names it: `UNIT[+INSTANCE]@STAGE`.
    pub fn address_in(&self, subject: Subject, stage: StageId) -> Address {
        Address::of_owner(Some(self.owner(subject)), Some(&self.stage(stage).name))
    }

    /// The unit or instance that an address names, and its stage, if it belongs there.
    pub fn subject_at(&self, address: &Address) -> Option<(Subject, StageId)> {
        let stage = self.stage_id(address.stage.as_ref()?.as_str())?;
        Some((self.subject_of(address.owner.as_ref()?, stage)?, stage))
    }

    /// The unit or instance with this name, if it belongs to a stage.
    pub fn subject_of(&self, owner: &Owner, stage: StageId) -> Option<Subject> {
        let Owner::Unit(unit, instance) = owner else { return None };
        let id = self.unit_id(unit.as_str())?;
        let instance = match instance {
            Some(name) => Some(self.unit(id).instance(name.as_str())?),
            None => None,
        };
        self.unit(id).belongs_to(stage, instance).then_some(Subject::Unit(id, instance))
    }
}
