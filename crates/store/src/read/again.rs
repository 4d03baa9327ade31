//! What a change of some files leaves as it was read before: whole units, and settings of units in single layers.

use std::collections::BTreeSet;
use std::sync::Arc;

use cledger_core::address::Owner;
use cledger_core::model::{
    Entry, LayerId, Ledger, SettingsOfLayer, SharedId, Stray, StrayKind, TableFault, Unit,
};
use cledger_core::name::Name;

use super::contract::Shared;
use super::layout::{LayerFiles, Layout};
use super::manifest::Manifest;
use super::settings::split_key;
use crate::tree::Changed;
use crate::{MANIFEST, WAIVERS};

/// What of a ledger need not be read again.
pub(super) struct Kept<'b> {
    before: &'b Ledger,
    /// The units whose contract is changed.
    contracts: BTreeSet<&'b str>,
    /// The layers, each with the unit, where a file of that unit's own is changed.
    settings: BTreeSet<(LayerId, &'b str)>,
    /// The layers whose one file is changed.
    layers: BTreeSet<LayerId>,
    /// Whether the layers are the same as before, so that whole units can be kept.
    has_same_layers: bool,
    /// What became of the shared entries.
    shared: SharedThen<'b>,
}

/// What became of the shared entries that there were.
struct SharedThen<'b> {
    /// For each of them, which one it is now, where units are read against it as before.
    now: Vec<Option<SharedId>>,
    /// The names that there are only before or only now, sorted.
    otherwise: Vec<&'b Name>,
    /// Whether all of them are what they were, by their numbers, too.
    is_same: bool,
}

impl<'b> SharedThen<'b> {
    fn of(before: &'b [Entry], shared: &'b Shared) -> Self {
        let now = |entry: &Entry| {
            let (now, id) = shared.find(entry.name.as_str())?;
            now.reads_as(entry).then_some(id)
        };
        let now: Vec<Option<SharedId>> = before.iter().map(now).collect();
        let names = |entries: &'b [Entry]| entries.iter().map(|entry| &entry.name).collect::<BTreeSet<_>>();
        let otherwise: Vec<&Name> = (&names(before) ^ &names(&shared.entries)).into_iter().collect();
        let is_same = otherwise.is_empty() && now.iter().all(Option::is_some);
        Self { now, otherwise, is_same }
    }

    fn now(&self, id: SharedId) -> Option<SharedId> {
        self.now[usize::from(id.0)]
    }

    /// Whether a unit is read as before against them.
    fn leaves(&self, unit: &Unit) -> bool {
        let is_of = |stray: &Stray| {
            let may_be = matches!(stray.kind, StrayKind::UnknownEntry | StrayKind::NotUsed);
            may_be && self.otherwise.iter().any(|name| name.as_str() == stray.name)
        };
        self.is_same || unit.uses.iter().all(|&id| self.now(id).is_some()) && !unit.strays.iter().any(is_of)
    }

    /// A unit that is left as it was, with the numbers that the shared entries have now.
    fn renumbered(&self, mut unit: Unit) -> Unit {
        let now = |id| self.now(id).unwrap_or(id);
        unit.uses.iter_mut().for_each(|id| *id = now(*id));
        unit.slots.renumber_shared(now);
        unit
    }

    /// Whether these have other numbers now.
    fn moves(&self, unit: &Unit) -> bool {
        unit.uses.iter().any(|&id| self.now(id) != Some(id))
    }
}

/// What is kept of a unit in a layer.
pub(super) struct KeptSettings<'b> {
    pub(super) settings: &'b Arc<SettingsOfLayer>,
    pub(super) strays: Vec<Stray>,
    pub(super) faults: Vec<&'b TableFault>,
}

impl<'b> Kept<'b> {
    /// What these changes may leave; nothing where they say something for all units, or something could not be read,
    /// or where units are bound to other layers than before, but for further stages behind them.
    pub(super) fn of(
        (before, changed): (&'b Ledger, &'b Changed),
        manifest: &Manifest,
        layout: &Layout,
        shared: &'b Shared,
    ) -> Option<Self> {
        if !before.broken.is_empty() || !has_its_layers(before, manifest, layout) {
            return None;
        }
        let mut kept = Self {
            before,
            contracts: BTreeSet::new(),
            settings: BTreeSet::new(),
            layers: BTreeSet::new(),
            has_same_layers: manifest.stages.len() == before.stages.len(),
            shared: SharedThen::of(&before.shared, shared),
        };
        let layer = |folder: &str, name: &str| match folder {
            "stages" => before.stage_id(name).map(LayerId::Stage),
            _ => before.group_id(name).map(LayerId::Group),
        };
        for path in changed.keys() {
            let base = path.strip_suffix(".toml").unwrap_or_default();
            match base.split('/').collect::<Vec<_>>()[..] {
                _ if path == MANIFEST || path == WAIVERS || path.starts_with("keys/") => {}
                ["units", unit] => {
                    kept.contracts.insert(unit);
                }
                // They are read in any case, and compared.
                ["shared"] | ["shared", _] | ["stages" | "groups", _, "shared"] => {}
                // Of a layer that was not there nothing is kept anyway.
                [folder @ ("stages" | "groups"), name, owner] => {
                    kept.settings.extend(layer(folder, name).map(|layer| (layer, split_key(owner).0)));
                }
                [folder @ ("stages" | "groups"), name] => kept.layers.extend(layer(folder, name)),
                _ => return None,
            }
        }
        Some(kept)
    }

    /// The unit as it was, if there was one of which the contract is not changed, nor what that is read against.
    fn known(&self, name: &Name) -> Option<&'b Arc<Unit>> {
        let id = self.before.unit_id(name.as_str()).filter(|_| !self.contracts.contains(name.as_str()))?;
        Some(&self.before.units[id.0 as usize]).filter(|unit| self.shared.leaves(unit))
    }

    /// The unit, if it is as it was. `is_set_in` says whether a layer's one file has settings for it.
    pub(super) fn unit(&self, name: &Name, is_set_in: impl Fn(LayerId) -> bool) -> Option<Arc<Unit>> {
        let unit = self.known(name).filter(|_| self.has_same_layers)?;
        let is_touched = |layer: LayerId| {
            self.settings.contains(&(layer, name.as_str()))
                || self.layers.contains(&layer)
                    && (is_set_in(layer)
                        || !self.before.unit_layer(unit, layer).is_empty()
                        || unit.strays.iter().any(|stray| stray.layer == layer))
        };
        let is_left = !self.before.layer_ids().any(is_touched);
        let moves = self.shared.moves(unit);
        let now = || if moves { Arc::new(self.shared.renumbered(Unit::clone(unit))) } else { unit.clone() };
        is_left.then(now)
    }

    /// The unit with its contract as it was, if that still holds for so many stages, and the faults in that.
    pub(super) fn contract(&self, name: &Name, stages: usize) -> Option<(Unit, Vec<&'b TableFault>)> {
        let known = self.known(name)?;
        if !self.has_same_layers && self.may_name_stages(known) {
            return None;
        }
        let mut unit = self.shared.renumbered(Unit::clone(known));
        let of_instances = unit.instances.iter_mut().map(|instance| &mut instance.belongs);
        for belongs in of_instances.chain([&mut unit.belongs]) {
            belongs.resize(stages, true);
        }
        Some((unit, self.faults_in(name, None)))
    }

    /// Whether a contract may say for which stages something in it is. A key can hide only behind escapes.
    fn may_name_stages(&self, unit: &Unit) -> bool {
        let file = self.before.files.get(unit.place.file);
        file.is_none_or(|file| file.text.contains("stages") || file.text.contains('\\'))
    }

    /// The faults in the tables of a unit in a layer, or in its contract.
    fn faults_in(&self, name: &Name, layer: Option<LayerId>) -> Vec<&'b TableFault> {
        let is_of = |fault: &&TableFault| {
            fault.layer == layer && matches!(&fault.owner, Owner::Unit(unit, _) if unit == name)
        };
        self.before.table_faults.iter().filter(is_of).collect()
    }

    /// The settings of a unit in a layer, if they are as they were.
    pub(super) fn settings(&self, name: &Name, layer: LayerId) -> Option<KeptSettings<'b>> {
        let unit = self.known(name)?;
        let is_touched = self.layers.contains(&layer) || self.settings.contains(&(layer, name.as_str()));
        if is_touched || !has(self.before, layer) {
            return None;
        }
        Some(KeptSettings {
            settings: &unit.settings[layer.position(self.before.stages.len())],
            strays: unit.strays.iter().filter(|stray| stray.layer == layer).cloned().collect(),
            faults: self.faults_in(name, Some(layer)),
        })
    }

    /// The faults in the tables of the units that are kept whole.
    pub(super) fn faults<'k>(&'k self, kept: &'k BTreeSet<&Name>) -> impl Iterator<Item = &'b TableFault> {
        let of_kept = |fault: &&TableFault| match &fault.owner {
            Owner::Unit(name, _) => kept.contains(name),
            Owner::Shared => false,
        };
        self.before.table_faults.iter().filter(of_kept)
    }
}

/// Whether a ledger has a layer.
fn has(ledger: &Ledger, layer: LayerId) -> bool {
    match layer {
        LayerId::Stage(id) => usize::from(id.0) < ledger.stages.len(),
        LayerId::Group(id) => usize::from(id.0) < ledger.groups.len(),
    }
}

/// Whether the layers that a ledger had are still there, further stages behind its own aside.
fn has_its_layers(before: &Ledger, manifest: &Manifest, layout: &Layout) -> bool {
    let stages = manifest.stages.iter().map(|stage| &stage.name);
    let groups = manifest.groups.iter().map(|group| &group.name);
    let in_folder = layout.layers.iter().filter(|(layer, _)| has(before, *layer));
    let in_folder = in_folder.map(|(_, files)| matches!(files, LayerFiles::Folder(_)));
    stages.take(before.stages.len()).eq(before.stages.iter().map(|stage| &stage.name))
        && groups.eq(before.groups.iter().map(|group| &group.name))
        && in_folder.eq(before.layers.iter().map(|layer| layer.in_folder))
}
