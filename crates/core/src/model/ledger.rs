//! The ledger as a whole, and finding things in it by name.

use super::{
    BrokenFiles, Bundle, Declaration, Entry, EntryRef, Group, GroupId, InstanceId, Judging, LayerId,
    LayerSettings, Outlet, Part, SharedId, Slot, Slots, Stage, StageId, Stranger, TableFault, Unit, UnitId,
    Waiver,
};
use std::sync::Arc;

use crate::address::{Owner, Pattern};
use crate::let_go::let_go;
use crate::name::Name;
use crate::source::Files;

/// Stages that must agree, and where they may not.
#[derive(Debug, Clone, PartialEq)]
pub struct Aligned {
    /// The stages.
    pub stages: Vec<StageId>,
    /// Where they may differ.
    pub except: Vec<Pattern>,
}

/// Everything that was read.
///
/// A ledger that was read for the sake of one unit holds only that unit and those it refers to.
#[derive(Debug, Clone)]
pub struct Ledger {
    /// Its name.
    pub name: String,
    /// The stage that is meant where none is named; never of class production.
    pub default_stage: Option<StageId>,
    /// The stages, in the order of `ledger.toml`.
    pub stages: Vec<Stage>,
    /// The groups, by name.
    pub groups: Vec<Group>,
    /// Stages that must agree.
    pub aligned: Vec<Aligned>,
    /// How it wants to be judged.
    pub judging: Judging,
    /// Where its stages are delivered to and read back from.
    pub outlets: Vec<Outlet>,
    /// Units that belong together.
    pub bundles: Vec<Bundle>,
    /// Where its deliveries are recorded.
    pub daybook: DaybookStore,
    /// Whether each record of it gets a line in a file of the ledger.
    pub anchors: bool,
    /// What is accepted for a while.
    pub waivers: Vec<Waiver>,
    /// The shared entries, by name.
    pub shared: Vec<Entry>,
    /// The fields of all shared entries.
    pub shared_slots: Slots,
    /// The units, by name.
    pub units: Vec<Arc<Unit>>,
    /// The shared settings, by layer: stages first, then groups.
    pub layers: Vec<LayerSettings>,
    /// Settings for units and instances that do not exist.
    pub strangers: Vec<Stranger>,
    /// Rows of lookup tables that do not count.
    pub table_faults: Vec<TableFault>,
    /// The files that could not be read: what they say is missing from the rest.
    pub broken: BrokenFiles,
    /// What was read, where that is not all that concerns the units.
    pub part: Option<Part>,
    /// The files that were read.
    pub files: Files,
}

/// Where deliveries are recorded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum DaybookStore {
    /// In a file of the ledger's local state.
    #[default]
    Embedded,
    /// In a PostgreSQL database, at the address that `CLEDGER_DAYBOOK` gives.
    Postgres,
}

impl DaybookStore {
    /// The stores with their words in `ledger.toml`.
    pub const ALL: [(DaybookStore, &'static str); 2] =
        [(DaybookStore::Embedded, "embedded"), (DaybookStore::Postgres, "postgres")];
}

impl Drop for Ledger {
    /// Drops the units and the texts on all threads.
    fn drop(&mut self) {
        let_go(std::mem::take(&mut self.units));
        let_go(std::mem::take(&mut self.files.0));
    }
}

/// Finds a name in a list that is sorted by it.
fn find<T>(list: &[T], name: &str, of: impl Fn(&T) -> &Name) -> Option<usize> {
    list.binary_search_by(|known| of(known).as_str().cmp(name)).ok()
}

/// Why names lead to no field.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoSlot {
    /// The subject has no such entry.
    NoEntry,
    /// It has the entry, which has no such field, or several where none is named.
    NoField,
}

impl Ledger {
    /// The stage with this name.
    pub fn stage_id(&self, name: &str) -> Option<StageId> {
        let found = self.stages.iter().position(|stage| stage.name.as_str() == name)?;
        u16::try_from(found).ok().map(StageId)
    }

    /// The stage of this name, or that had it before.
    pub fn stage_called(&self, name: &str) -> Option<StageId> {
        let had_it = |stage: &Stage| stage.formerly.iter().any(|former| former.name.as_str() == name);
        self.stage_id(name).or_else(|| {
            let found = self.stages.iter().position(had_it)?;
            u16::try_from(found).ok().map(StageId)
        })
    }

    /// How a stage of this name is called now; as before where the ledger has none.
    pub fn stage_name_now<'n>(&'n self, name: &'n str) -> &'n str {
        self.stage_called(name).map_or(name, |id| self.stage(id).name.as_str())
    }

    /// All stages, in order.
    pub fn stage_ids(&self) -> impl Iterator<Item = StageId> + use<> {
        let count = u16::try_from(self.stages.len()).unwrap_or(u16::MAX);
        (0..count).map(StageId)
    }

    /// The stage.
    pub fn stage(&self, id: StageId) -> &Stage {
        &self.stages[usize::from(id.0)]
    }

    /// The group with this name.
    pub fn group_id(&self, name: &str) -> Option<GroupId> {
        let found = find(&self.groups, name, |group| &group.name)?;
        u16::try_from(found).ok().map(GroupId)
    }

    /// The group.
    pub fn group(&self, id: GroupId) -> &Group {
        &self.groups[usize::from(id.0)]
    }

    /// The unit with this name.
    pub fn unit_id(&self, name: &str) -> Option<UnitId> {
        let found = find(&self.units, name, |unit| &unit.name)?;
        u32::try_from(found).ok().map(UnitId)
    }

    /// All units, by name.
    pub fn unit_ids(&self) -> impl Iterator<Item = UnitId> + use<> {
        let count = u32::try_from(self.units.len()).unwrap_or(u32::MAX);
        (0..count).map(UnitId)
    }

    /// The unit.
    pub fn unit(&self, id: UnitId) -> &Unit {
        &self.units[id.0 as usize]
    }

    /// The shared entry with this name.
    pub fn shared_id(&self, name: &str) -> Option<SharedId> {
        let found = find(&self.shared, name, |entry| &entry.name)?;
        u16::try_from(found).ok().map(SharedId)
    }

    /// The shared entry.
    pub fn shared_entry(&self, id: SharedId) -> &Entry {
        &self.shared[usize::from(id.0)]
    }

    /// The name of a layer: the stage's or group's.
    pub fn layer_name(&self, layer: LayerId) -> &Name {
        match layer {
            LayerId::Stage(id) => &self.stage(id).name,
            LayerId::Group(id) => &self.group(id).name,
        }
    }

    /// All layers, stages first.
    pub fn layer_ids(&self) -> impl Iterator<Item = LayerId> + use<> {
        let groups = u16::try_from(self.groups.len()).unwrap_or(u16::MAX);
        self.stage_ids().map(LayerId::Stage).chain((0..groups).map(|id| LayerId::Group(GroupId(id))))
    }

    /// The shared settings of a layer.
    pub fn layer(&self, layer: LayerId) -> &LayerSettings {
        &self.layers[layer.position(self.stages.len())]
    }

    /// The settings of a layer for a unit.
    pub fn unit_layer<'l>(&self, unit: &'l Unit, layer: LayerId) -> &'l super::SettingsOfLayer {
        &unit.settings[layer.position(self.stages.len())]
    }

    /// The entry that a subject's entry reference means.
    pub fn entry(&self, subject: Subject, entry: EntryRef) -> &Entry {
        match (entry, subject) {
            (EntryRef::Shared(id), _) => self.shared_entry(id),
            (EntryRef::Own(position), Subject::Unit(unit, _)) => {
                &self.unit(unit).entries[usize::from(position)]
            }
            (EntryRef::Own(position), Subject::Shared) => &self.shared[usize::from(position)],
        }
    }
}

/// Whose fields are resolved: a unit's, an instance's, or the shared entries' by themselves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Subject {
    /// The shared entries, without any unit's own settings.
    Shared,
    /// A unit, or one of its instances.
    Unit(UnitId, Option<InstanceId>),
}

impl Ledger {
    /// How the fields of a subject are numbered.
    pub fn slots(&self, subject: Subject) -> &Slots {
        match subject {
            Subject::Shared => &self.shared_slots,
            Subject::Unit(unit, _) => &self.unit(unit).slots,
        }
    }

    /// The entry and declaration of a slot.
    pub fn field(&self, subject: Subject, slot: Slot) -> (&Entry, &Declaration) {
        let (slots, own) = match subject {
            Subject::Shared => (&self.shared_slots, &self.shared),
            Subject::Unit(unit, _) => {
                let unit = self.unit(unit);
                (&unit.slots, &unit.entries)
            }
        };
        let (known, field) = slots.entry_of(slot);
        let entry = match known.entry {
            EntryRef::Shared(id) => self.shared_entry(id),
            EntryRef::Own(position) => &own[usize::from(position)],
        };
        (entry, &entry.fields[field])
    }

    /// The slot among all shared fields that a subject's slot stands for, if its entry is a shared one.
    pub fn shared_slot(&self, subject: Subject, slot: Slot) -> Option<Slot> {
        let (known, position) = self.slots(subject).entry_of(slot);
        let EntryRef::Shared(id) = known.entry else { return (subject == Subject::Shared).then_some(slot) };
        let first = self.shared_slots.entries[usize::from(id.0)].first;
        Some(Slot(first + u32::try_from(position).unwrap_or(u32::MAX)))
    }

    /// The name of a field within its unit: `ENTRY[.FIELD]`.
    pub fn field_name(&self, subject: Subject, slot: Slot) -> String {
        let (entry, field) = self.field(subject, slot);
        match &field.name {
            Some(name) => format!("{}.{name}", entry.name),
            None => entry.name.to_string(),
        }
    }

    /// The slot of a field by its names, as the subject sees it.
    pub fn find_slot(&self, subject: Subject, entry: &str, field: Option<&str>) -> Result<Slot, NoSlot> {
        let slots = self.slots(subject);
        let found = slots
            .entries
            .binary_search_by(|known| self.entry(subject, known.entry).name.as_str().cmp(entry))
            .map_err(|_| NoSlot::NoEntry)?;
        let entry = slots.entries[found];
        let position = self.entry(subject, entry.entry).field(field).ok_or(NoSlot::NoField)?;
        u32::try_from(position).map(|position| Slot(entry.first + position)).map_err(|_| NoSlot::NoField)
    }

    /// The names of all entries that the subject sees.
    pub fn entry_names(&self, subject: Subject) -> impl Iterator<Item = &str> {
        self.slots(subject).entries.iter().map(move |e| self.entry(subject, e.entry).name.as_str())
    }

    /// The owner part of the subject's addresses.
    pub fn owner(&self, subject: Subject) -> Owner {
        match subject {
            Subject::Shared => Owner::Shared,
            Subject::Unit(id, instance) => {
                let unit = self.unit(id);
                let instance = instance.map(|id| unit.instances[usize::from(id.0)].name.clone());
                Owner::Unit(unit.name.clone(), instance)
            }
        }
    }

    /// A unit and its instances, wherever they belong.
    pub fn subjects_of(&self, unit: UnitId) -> impl Iterator<Item = Subject> + use<> {
        let count = u16::try_from(self.unit(unit).instances.len()).unwrap_or(u16::MAX);
        let instances = (0..count).map(|at| Some(InstanceId(at)));
        std::iter::once(None).chain(instances).map(move |instance| Subject::Unit(unit, instance))
    }

    /// The unit or instance that had this name before, as it is called now.
    pub fn now_called(&self, former: &Owner) -> Option<Owner> {
        let Owner::Unit(name, instance) = former else { return None };
        let had_it = |unit: &&Arc<Unit>| unit.formerly.iter().any(|former| former.name == *name);
        self.units.iter().find(had_it).map(|unit| Owner::Unit(unit.name.clone(), instance.clone()))
    }

    /// Whether an outlet takes a unit or instance in a stage, be it under the name that it has now.
    pub fn takes(&self, outlet: &Outlet, stage: StageId, owner: &Owner) -> bool {
        outlet.takes(stage, owner.names())
            || self.now_called(owner).is_some_and(|now| outlet.takes(stage, now.names()))
    }
}
