//! Units with their settings, read in parallel, each as soon as it is known to be needed.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use cledger_core::model::{
    InstanceId, LayerId, LayerSettings, Part, Setting, SettingsOfLayer, Stage, Stranger, Stray,
    UNITS_AT_ONCE, Unit,
};
use cledger_core::name::Name;
use cledger_core::reference::Target;
use cledger_core::resolve::layers_of;
use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

use super::Scope;
use super::again::Kept;
use super::contract::{self, Surroundings};
use super::documents::{Document, Documents};
use super::frame::In;
use super::layout::{self, LayerFiles, Layout};
use super::settings::{UnitBinding, bind, split_key};
use super::toml_table::{TomlKey, TomlTable};
use crate::mistake::Mistakes;
use cledger_core::model::Mistake;

/// The units, and what was read beside them.
pub(super) struct Read {
    /// By name.
    pub(super) units: Vec<Arc<Unit>>,
    /// By layer.
    pub(super) layers: Vec<LayerSettings>,
    pub(super) strangers: Vec<Stranger>,
}

/// The tables of one layer that stands in one file, by unit.
struct LayerTables<'t> {
    read: In<'t>,
    units: FxHashMap<&'t str, Vec<UnitTable<'t>>>,
}

/// The table of a unit or instance in a layer's one file.
struct UnitTable<'t> {
    instance: Option<&'t str>,
    key: &'t TomlKey<'t>,
    table: &'t TomlTable<'t>,
}

/// Where a layer's settings for units are found.
enum Source<'t> {
    None,
    Tables(LayerTables<'t>),
    Folder {
        path: &'t str,
        /// What is in it, where all of that is looked at.
        listed: Option<Listed>,
    },
}

/// What is in a folder of settings.
#[derive(Default)]
struct Listed {
    /// By key: the name of a unit or instance, if it is one.
    entries: Vec<(String, String, bool)>,
    keys: FxHashSet<String>,
}

impl Listed {
    fn read(documents: &Documents<'_>, folder: &str) -> Self {
        let entries = layout::names(documents, folder);
        let keys = entries.iter().map(|(key, ..)| key.clone()).collect();
        Self { entries, keys }
    }
}

pub(super) fn read(
    documents: &Documents<'_>,
    layout: &Layout,
    around: &Surroundings<'_>,
    (scope, kept): (&Scope, Option<&Kept<'_>>),
) -> Read {
    // Texts, then tables that borrow from them, then what is read from those.
    let wanted = match scope {
        Scope::Part(part) => Some(WantedLayers::of(part, around.stages)),
        _ => None,
    };
    let is_wanted = |layer: LayerId| wanted.as_ref().is_none_or(|wanted| wanted.all.contains(&layer));
    let texts: Vec<Option<Document>> = layout
        .layers
        .par_iter()
        .map(|(layer, files)| match files {
            LayerFiles::File(path) if is_wanted(*layer) => documents.text(path),
            _ => None,
        })
        .collect();
    let tables: Vec<Option<TomlTable<'_>>> =
        texts.par_iter().map(|text| text.as_ref().and_then(|text| text.table(documents))).collect();
    let (layers, mut sources): (Vec<_>, Vec<_>) = layout
        .layers
        .iter()
        .zip(texts.iter().zip(&tables))
        .map(|((layer, files), (text, table))| {
            if is_wanted(*layer) {
                return layer_settings(documents, *layer, files, text.as_ref().zip(table.as_ref()), around);
            }
            let in_folder = matches!(files, LayerFiles::Folder(_));
            (LayerSettings { in_folder, ..LayerSettings::default() }, Source::None)
        })
        .unzip();
    if let Scope::Whole = scope {
        // What is not there need not be opened.
        sources.par_iter_mut().for_each(|source| {
            if let Source::Folder { path, listed } = source {
                *listed = Some(Listed::read(documents, path));
            }
        });
    }
    let reading = Reading { documents, layout, sources: &sources, around, kept, wanted: wanted.as_ref() };
    let units = reading.units(scope);
    let strangers = match scope {
        Scope::Whole => {
            refuse_claimed_twice(&units, documents.mistakes);
            reading.strangers(&units)
        }
        _ => Vec::new(),
    };
    drop(sources);
    drop(tables);
    texts.into_iter().flatten().for_each(|text| documents.keep(text));
    Read { units, layers, strangers }
}

/// A name leads to one unit: a former one is neither another unit's name now nor its former one.
fn refuse_claimed_twice(units: &[Arc<Unit>], mistakes: &Mistakes) {
    let mut claimed: FxHashMap<&Name, &Name> = FxHashMap::default();
    for (unit, former) in units.iter().flat_map(|unit| unit.formerly.iter().map(move |it| (unit, it))) {
        let name = &former.name;
        let message = if units.binary_search_by(|known| known.name.cmp(name)).is_ok() {
            format!("`{name}` is a unit of the ledger, so `{}` cannot have been called so", unit.name)
        } else if let Some(other) = claimed.insert(name, &unit.name) {
            format!("`{name}` is a former name of `{other}`, too")
        } else {
            continue;
        };
        let help = "what was delivered under a name is the history of one unit: leave it out of `formerly` of the other";
        mistakes.push(Mistake::at(former.place, message).help(help).of_all());
    }
}

/// A layer's shared settings, and where its settings for units are.
fn layer_settings<'t>(
    documents: &'t Documents<'_>,
    layer: LayerId,
    files: &'t LayerFiles,
    file: Option<(&'t Document, &'t TomlTable<'t>)>,
    around: &Surroundings<'_>,
) -> (LayerSettings, Source<'t>) {
    let mut strays = Vec::new();
    let mut shared = |read: In<'_>, table: &TomlTable<'_>| {
        let settings = bind_shared(read, table, layer, around, &mut strays);
        LayerSettings { shared: settings, strays: std::mem::take(&mut strays), in_folder: false }
    };
    match files {
        LayerFiles::None => (LayerSettings::default(), Source::None),
        LayerFiles::Folder(path) => {
            let settings = documents.with(&format!("{path}/shared.toml"), shared);
            (
                LayerSettings { in_folder: true, ..settings.unwrap_or_default() },
                Source::Folder { path, listed: None },
            )
        }
        LayerFiles::File(_) => {
            let Some((document, table)) = file else {
                return (LayerSettings::default(), Source::None);
            };
            let read = In { file: document.file, mistakes: documents.mistakes, documents };
            let mut settings = LayerSettings::default();
            let mut units = FxHashMap::default();
            read.keys(table, &["shared", "units"], |key, item| {
                let Some(table) = read.table(item, &format!("`{key}`")) else { return };
                if key == "shared" {
                    settings = shared(read, table);
                } else {
                    units = unit_tables(read, table);
                }
            });
            (settings, Source::Tables(LayerTables { read, units }))
        }
    }
}

fn unit_tables<'t>(read: In<'t>, table: &'t TomlTable<'t>) -> FxHashMap<&'t str, Vec<UnitTable<'t>>> {
    let mut units: FxHashMap<&str, Vec<UnitTable<'_>>> = FxHashMap::default();
    for (key, item) in table {
        let (unit, instance) = split_key(key.get_ref());
        if let Some(table) = read.table(item, "a unit's settings") {
            units.entry(unit).or_default().push(UnitTable { instance, key, table });
        }
    }
    units
}

/// Shared settings, by entry.
fn bind_shared(
    read: In<'_>,
    table: &TomlTable<'_>,
    layer: LayerId,
    around: &Surroundings<'_>,
    strays: &mut Vec<Stray>,
) -> Vec<Vec<Setting>> {
    let mut settings: Vec<Vec<Setting>> = around.shared.entries.iter().map(|_| Vec::new()).collect();
    for mut setting in bind(read, table, around.shared, (layer, None), strays) {
        let slots = &around.shared.slots;
        let entry = usize::from(slots.owners[setting.slot.0 as usize]);
        setting.slot.0 -= slots.entries[entry].first;
        settings[entry].push(setting);
    }
    settings
}

/// What units are read from.
struct Reading<'r> {
    documents: &'r Documents<'r>,
    layout: &'r Layout,
    sources: &'r [Source<'r>],
    around: &'r Surroundings<'r>,
    /// What was read before, and need not be again.
    kept: Option<&'r Kept<'r>>,
    /// Which layers are read for which units; all if not given.
    wanted: Option<&'r WantedLayers>,
}

/// Which layers are read where that is not all of them.
struct WantedLayers {
    all: BTreeSet<LayerId>,
    by_unit: BTreeMap<Name, BTreeSet<LayerId>>,
}

impl WantedLayers {
    /// Those of the chains of the stages that are wanted.
    fn of(part: &Part, stages: &[Stage]) -> Self {
        let (mut all, mut by_unit) = (BTreeSet::new(), BTreeMap::new());
        for (owner, wanted) in &part.stages {
            let layers: BTreeSet<LayerId> =
                wanted.iter().flat_map(|&stage| layers_of(stages, stage)).collect();
            all.extend(&layers);
            if let Some(unit) = owner {
                by_unit.insert(unit.clone(), layers);
            }
        }
        Self { all, by_unit }
    }

    fn has(&self, unit: &Name, layer: LayerId) -> bool {
        self.by_unit.get(unit).is_some_and(|layers| layers.contains(&layer))
    }
}

impl Reading<'_> {
    fn units(&self, scope: &Scope) -> Vec<Arc<Unit>> {
        let mut wanted: Vec<Name> = match scope {
            Scope::Whole => unit_names(self.documents),
            Scope::Units(names) => names.iter().cloned().collect(),
            Scope::Part(part) => part.stages.keys().flatten().cloned().collect(),
            Scope::Values(_) | Scope::Everywhere(_) => Vec::new(),
        };
        let mut tried: BTreeSet<Name> = wanted.iter().cloned().collect();
        let mut units = self.kept_units(&mut wanted);
        while !wanted.is_empty() {
            let parts = wanted.par_iter().with_max_len(UNITS_AT_ONCE);
            let read: Vec<Arc<Unit>> = parts.filter_map(|name| self.unit(name)).collect();
            wanted.clear();
            if let Scope::Units(_) = scope {
                let mut names = BTreeSet::new();
                for unit in &read {
                    unit.each_target(&mut |target| {
                        if let Target::OfUnit(unit, ..) = target {
                            names.insert(unit);
                        }
                    });
                }
                wanted.extend(names.into_iter().filter(|name| tried.insert(name.clone())));
            }
            units.extend(read);
        }
        units.sort_by(|a, b| a.name.cmp(&b.name));
        units
    }

    /// The units that are as they were read before, which are not wanted any more.
    fn kept_units(&self, wanted: &mut Vec<Name>) -> Vec<Arc<Unit>> {
        let Some(kept) = self.kept else { return Vec::new() };
        let is_kept = |name: &Name| kept.unit(name, |layer| self.is_set_in(layer, name));
        let found: Vec<Option<Arc<Unit>>> = wanted.par_iter().map(is_kept).collect();
        let mut is_wanted = found.iter().map(Option::is_none);
        wanted.retain(|_| is_wanted.next().unwrap_or(true));
        let units: Vec<Arc<Unit>> = found.into_iter().flatten().collect();
        let names = units.iter().map(|unit| &unit.name).collect();
        kept.faults(&names).for_each(|fault| self.documents.fault(fault.clone()));
        units
    }

    /// Whether the one file of a layer has settings for a unit.
    fn is_set_in(&self, layer: LayerId, unit: &Name) -> bool {
        let mut sources = self.layout.layers.iter().zip(self.sources);
        sources.any(|((known, _), source)| match source {
            Source::Tables(tables) => *known == layer && tables.units.contains_key(unit.as_str()),
            Source::None | Source::Folder { .. } => false,
        })
    }

    fn unit(&self, name: &Name) -> Option<Arc<Unit>> {
        let around = self.around;
        let mut unit = match self.kept.and_then(|kept| kept.contract(name, around.stages.len())) {
            Some((unit, faults)) => {
                for fault in faults {
                    self.documents.fault(fault.clone());
                }
                unit
            }
            None => self.documents.with(&format!("units/{name}.toml"), |read, table| {
                contract::unit(read, name.clone(), table, around)
            })?,
        };
        let mut strays = Vec::new();
        let binding = UnitBinding::new(&unit, around.shared);
        let settings = self.layout.layers.iter().zip(self.sources).map(|(&(layer, _), source)| {
            if let Some(kept) = self.kept.and_then(|kept| kept.settings(name, layer)) {
                strays.extend(kept.strays);
                kept.faults.into_iter().for_each(|fault| self.documents.fault(fault.clone()));
                return kept.settings.clone();
            }
            if self.wanted.is_some_and(|wanted| !wanted.has(name, layer)) {
                return Arc::default();
            }
            Arc::new(match source {
                Source::None => SettingsOfLayer::default(),
                Source::Tables(tables) => settings_in_tables(tables, layer, &binding, &mut strays),
                Source::Folder { path, listed } => {
                    self.settings_in_folder((path, listed.as_ref()), layer, &binding, &mut strays)
                }
            })
        });
        let settings = settings.collect();
        drop(binding);
        (unit.settings, unit.strays) = (settings, strays);
        Some(Arc::new(unit))
    }

    fn settings_in_folder(
        &self,
        (path, listed): (&str, Option<&Listed>),
        layer: LayerId,
        binding: &UnitBinding<'_>,
        strays: &mut Vec<Stray>,
    ) -> SettingsOfLayer {
        let unit = binding.unit;
        let mut settings = SettingsOfLayer::default();
        let instances = (0_u16..).zip(&unit.instances);
        let instances = instances.map(|(id, instance)| (Some(InstanceId(id)), instance.name.as_str()));
        for (instance, name) in std::iter::once((None, "")).chain(instances) {
            let separator = if name.is_empty() { "" } else { "+" };
            let key = [unit.name.as_str(), separator, name].concat();
            if listed.is_some_and(|listed| !listed.keys.contains(&key)) {
                continue;
            }
            self.documents.with(&[path, "/", &key, ".toml"].concat(), |read, table| {
                let bound = bind(read, table, binding, (layer, instance), strays);
                settings.add(instance, read.place(0..0), bound);
            });
        }
        settings
    }

    /// Settings for units and instances that do not exist.
    fn strangers(&self, units: &[Arc<Unit>]) -> Vec<Stranger> {
        let Self { documents, layout, sources, .. } = *self;
        let known = |unit: &str, instance: Option<&str>| {
            let found = units.binary_search_by(|known| known.name.as_str().cmp(unit));
            found.is_ok_and(|at| instance.is_none_or(|name| units[at].instance(name).is_some()))
        };
        let of_layer = |(layer, source): (LayerId, &Source<'_>)| {
            let mut strangers = Vec::new();
            match source {
                Source::None => {}
                Source::Tables(tables) => {
                    for (unit, found) in &tables.units {
                        for table in found.iter().filter(|table| !known(unit, table.instance)) {
                            let place = tables.read.place(table.key.span());
                            strangers.push(stranger(layer, unit, table.instance, place));
                        }
                    }
                }
                Source::Folder { listed, .. } => {
                    for (key, path, is_file) in listed.iter().flat_map(|listed| &listed.entries) {
                        let (unit, instance) = split_key(key);
                        if key == "shared" || !is_file || known(unit, instance) {
                            continue;
                        }
                        let valid =
                            std::iter::once(unit).chain(instance).find_map(|name| Name::parse(name).err());
                        if let Some(error) = valid {
                            documents.mistakes.push(layout::bad_name(path, key, &error.to_string()));
                        }
                        let place = documents.with(path, |read, _| read.place(0..0));
                        strangers.extend(place.map(|place| stranger(layer, unit, instance, place)));
                    }
                }
            }
            strangers
        };
        let layers = layout.layers.par_iter().map(|(layer, _)| *layer).zip(sources.par_iter());
        let mut strangers: Vec<Stranger> = layers.flat_map_iter(of_layer).collect();
        strangers.sort_by(|a, b| (a.layer, &a.unit, &a.instance).cmp(&(b.layer, &b.unit, &b.instance)));
        strangers
    }
}

/// The settings of a unit and its instances in a layer that stands in one file.
fn settings_in_tables(
    tables: &LayerTables<'_>,
    layer: LayerId,
    binding: &UnitBinding<'_>,
    strays: &mut Vec<Stray>,
) -> SettingsOfLayer {
    let unit = binding.unit;
    let mut settings = SettingsOfLayer::default();
    for found in tables.units.get(unit.name.as_str()).into_iter().flatten() {
        let place = tables.read.place(found.key.span());
        let instance = match found.instance {
            None => None,
            Some(name) => match unit.instance(name) {
                Some(id) => Some(id),
                // Reported as a stranger.
                None => continue,
            },
        };
        let bound = bind(tables.read, found.table, binding, (layer, instance), strays);
        settings.add(instance, place, bound);
    }
    settings
}

/// The names of all units, by their files.
pub(super) fn unit_names(documents: &Documents<'_>) -> Vec<Name> {
    let mut names = Vec::new();
    for listed in layout::list(documents, "units") {
        let Some(path) = listed.file else { continue };
        if listed.name.is_taken() {
            let reason = "it has a meaning of its own in addresses";
            documents.mistakes.push(layout::bad_name(&path, listed.name.as_str(), reason));
        } else {
            names.push(listed.name);
        }
    }
    names
}

fn stranger(
    layer: LayerId,
    unit: &str,
    instance: Option<&str>,
    place: cledger_core::source::Place,
) -> Stranger {
    Stranger { layer, unit: unit.to_owned(), instance: instance.map(str::to_owned), place }
}
