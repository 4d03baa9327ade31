//! Units: their contracts, their instances, and the settings made for them.

use std::sync::Arc;

use super::{
    Declaration, Entry, Expectation, GroupId, InstanceId, LayerId, Output, Setting, SharedId, Slot, StageId,
    Stray, Vary,
};
use crate::name::Name;
use crate::source::Place;

/// The most units that one thread takes at once: some have more to look at than others, and all threads are to be done at
/// the same time.
pub const UNITS_AT_ONCE: usize = 16;

/// When a chore is due.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum When {
    /// Around each delivery.
    EachDelivery,
    /// Before the first delivery.
    FirstDelivery,
    /// Once, when something is there.
    AfterFirstDelivery,
    /// When one of these fields changed: `ENTRY` or `ENTRY.FIELD`.
    Changed(Vec<String>),
}

/// Something that a person must do around a delivery.
#[derive(Debug, Clone)]
pub struct Chore {
    /// What to do.
    pub text: String,
    /// When.
    pub when: When,
}

/// One of several installs of a unit in the same stage.
#[derive(Debug, Clone)]
pub struct Instance {
    /// Its name.
    pub name: Name,
    /// For each stage, whether it exists there.
    pub belongs: Vec<bool>,
    /// Its name in the contract.
    pub place: Place,
}

/// An entry that a unit has or sees.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EntryRef {
    /// The unit's own, by its position there.
    Own(u16),
    /// A shared one.
    Shared(SharedId),
}

/// An entry among the slots.
#[derive(Debug, Clone, Copy)]
pub struct SlotEntry {
    /// The entry.
    pub entry: EntryRef,
    /// The slot of its first field.
    pub first: u32,
}

/// How all fields that somebody has or sees are numbered.
#[derive(Debug, Clone, Default)]
pub struct Slots {
    /// The entries, sorted by name.
    pub entries: Vec<SlotEntry>,
    /// For each slot, the position of its entry in `entries`.
    pub owners: Vec<u16>,
    /// For each slot, which settings count for its field.
    pub counting: Vec<Counting>,
    /// The shared entries among them, sorted, with the slots of their first fields.
    used: Vec<(SharedId, u32)>,
}

/// Which settings count for a field.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Counting {
    /// None: it is derived, or the same everywhere.
    Never,
    /// Those of a stage's own chain, and none that it follows: each stage states its own.
    Own,
    /// All.
    All,
}

impl Counting {
    fn of(declaration: &Declaration) -> Self {
        match declaration.vary {
            _ if declaration.derived => Counting::Never,
            Vary::Never => Counting::Never,
            Vary::Must => Counting::Own,
            Vary::May => Counting::All,
        }
    }
}

impl Slots {
    /// Numbers the fields of these entries, which are sorted by name, as shared ones are among themselves.
    pub fn number<'e>(entries: impl Iterator<Item = (EntryRef, &'e Entry)>) -> Self {
        let mut slots = Self::default();
        for (position, (entry, declared)) in (0_u16..).zip(entries) {
            #[expect(clippy::cast_possible_truncation, reason = "the store refuses so many fields")]
            let first = slots.owners.len() as u32;
            slots.entries.push(SlotEntry { entry, first });
            if let EntryRef::Shared(id) = entry {
                slots.used.push((id, first));
            }
            slots.owners.extend(declared.fields.iter().map(|_| position));
            slots.counting.extend(declared.fields.iter().map(Counting::of));
        }
        slots
    }

    /// How many fields there are.
    pub fn len(&self) -> usize {
        self.owners.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.owners.is_empty()
    }

    /// All slots in order.
    pub fn all(&self) -> impl Iterator<Item = Slot> + use<> {
        #[expect(clippy::cast_possible_truncation, reason = "the store refuses so many fields")]
        let count = self.owners.len() as u32;
        (0..count).map(Slot)
    }

    /// The slot of the first field of a shared entry, if it is one of these.
    pub fn first_of(&self, shared: SharedId) -> Option<u32> {
        let found = self.used.binary_search_by_key(&shared, |&(id, _)| id).ok()?;
        Some(self.used[found].1)
    }

    /// Gives the shared entries that are used other numbers, in the same order.
    pub fn renumber_shared(&mut self, number: impl Fn(SharedId) -> SharedId) {
        self.used.iter_mut().for_each(|(id, _)| *id = number(*id));
        for slot in &mut self.entries {
            if let EntryRef::Shared(id) = &mut slot.entry {
                *id = number(*id);
            }
        }
    }

    /// The entry that a slot belongs to, and the position of the field in it.
    pub fn entry_of(&self, slot: Slot) -> (SlotEntry, usize) {
        let entry = self.entries[usize::from(self.owners[slot.0 as usize])];
        (entry, (slot.0 - entry.first) as usize)
    }
}

/// The settings of one layer for one unit.
#[derive(Debug, Clone, Default)]
pub struct SettingsOfLayer {
    /// For the unit; slots are the unit's.
    pub unit: Vec<Setting>,
    /// Where the unit's table is, if it has one there.
    pub place: Option<Place>,
    /// For its instances.
    pub instances: Vec<(InstanceId, Place, Vec<Setting>)>,
}

impl SettingsOfLayer {
    /// Adds the settings of a table that stands at `place`.
    pub fn add(&mut self, instance: Option<InstanceId>, place: Place, settings: Vec<Setting>) {
        match instance {
            None => (self.unit, self.place) = (settings, Some(place)),
            Some(instance) => self.instances.push((instance, place, settings)),
        }
    }

    /// Whether there is no table for the unit or an instance of it.
    pub fn is_empty(&self) -> bool {
        self.place.is_none() && self.instances.is_empty()
    }
}

/// A name that a unit had before.
#[derive(Debug, Clone)]
pub struct FormerName {
    /// The name.
    pub name: Name,
    /// Where the contract says so.
    pub place: Place,
}

/// One deployable unit.
#[derive(Debug, Clone)]
pub struct Unit {
    /// Its name.
    pub name: Name,
    /// What it is, in its developers' words.
    pub about: Option<String>,
    /// Who looks after it.
    pub owner: Option<String>,
    /// The version of what is deployed.
    pub version: Option<String>,
    /// The names that it had before, the latest last: what was delivered under them is its history.
    pub formerly: Vec<FormerName>,
    /// For each stage, whether it belongs there.
    pub belongs: Vec<bool>,
    /// Its instances, by name.
    pub instances: Vec<Instance>,
    /// Its own entries, by name.
    pub entries: Vec<Entry>,
    /// The shared entries that it uses, by name.
    pub uses: Vec<SharedId>,
    /// The fields of its own and its used entries.
    pub slots: Slots,
    /// What is rendered for it.
    pub outputs: Vec<Output>,
    /// What a person must do around its deliveries.
    pub chores: Vec<Chore>,
    /// What is expected of the services that it talks to.
    pub expectations: Vec<Expectation>,
    /// Its settings, by layer: stages first, then groups.
    pub settings: Vec<Arc<SettingsOfLayer>>,
    /// Settings for something that it does not have.
    pub strays: Vec<Stray>,
    /// The start of its file.
    pub place: Place,
}

impl Unit {
    /// Whether the unit, or this instance of it, belongs to the stage.
    pub fn belongs_to(&self, stage: StageId, instance: Option<InstanceId>) -> bool {
        let stage = usize::from(stage.0);
        self.belongs[stage] && instance.is_none_or(|id| self.instances[usize::from(id.0)].belongs[stage])
    }

    /// The instance with this name.
    pub fn instance(&self, name: &str) -> Option<InstanceId> {
        let found = self.instances.binary_search_by(|known| known.name.as_str().cmp(name)).ok()?;
        u16::try_from(found).ok().map(InstanceId)
    }

    /// The instances that exist in the stage, by name.
    pub fn instances_in(&self, stage: StageId) -> impl Iterator<Item = InstanceId> {
        (0_u16..)
            .zip(&self.instances)
            .filter(move |(_, known)| known.belongs[usize::from(stage.0)])
            .map(|(id, _)| InstanceId(id))
    }

    /// The declarations of its own entries, with their entries.
    pub fn own_fields(&self) -> impl Iterator<Item = (&Entry, &Declaration)> {
        self.entries.iter().flat_map(|entry| entry.fields.iter().map(move |field| (entry, field)))
    }
}

impl LayerId {
    /// The position among all layers of a ledger with this many stages: stages first, then groups.
    pub fn position(self, stages: usize) -> usize {
        match self {
            LayerId::Stage(StageId(stage)) => usize::from(stage),
            LayerId::Group(GroupId(group)) => stages + usize::from(group),
        }
    }
}
