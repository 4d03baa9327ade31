//! Which parts of a ledger are not known for the files that cannot be read, and taking them out of the rest.
//!
//! What was read of such a file is not kept: half of what it says would be worse than nothing.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use cledger_core::model::{BrokenFile, BrokenFiles, LayerId, LayerSettings, Ledger, Missed, Mistake};
use cledger_core::name::Name;

use super::settings::split_key;
use crate::{MANIFEST, WAIVERS};

/// Takes out of a ledger what stands in files with mistakes, and notes what is missing for it. Nothing is left of one
/// whose manifest or shared entries are wrong, or that has a mistake which spoils all.
pub(super) fn take_out(ledger: &mut Ledger, mistakes: &[Mistake]) -> Option<()> {
    let mut files: BTreeMap<String, Vec<Mistake>> = BTreeMap::new();
    for mistake in mistakes {
        let path = mistake.place.and_then(|place| ledger.files.get(place.file)).map(|file| &file.path);
        let path = path.or(mistake.path.as_ref()).filter(|_| !mistake.spoils_all)?;
        files.entry(path.clone()).or_default().push(mistake.clone());
    }
    let files = files.into_iter().map(|(path, mistakes)| {
        let misses = missed(ledger, &path)?;
        Some(BrokenFile { path, misses, mistakes })
    });
    let broken = BrokenFiles(files.collect::<Option<_>>()?);
    for missed in broken.0.iter().flat_map(|file| &file.misses) {
        match missed {
            Missed::Unit(unit) => without_unit(ledger, unit),
            Missed::Layer(layer) => without_settings(ledger, *layer, None),
            Missed::UnitIn(layer, unit) => without_settings(ledger, *layer, Some(unit)),
            Missed::Waivers => ledger.waivers.clear(),
        }
    }
    ledger.broken = broken;
    Some(())
}

/// What is not known for a file; `None` if that is everything.
fn missed(ledger: &Ledger, path: &str) -> Option<BTreeSet<Missed>> {
    let base = path.strip_suffix(".toml").unwrap_or(path);
    let steps: Vec<&str> = base.split('/').collect();
    let layer = |folder: &str, name: &str| match folder {
        "stages" => ledger.stage_id(name).map(LayerId::Stage),
        _ => ledger.group_id(name).map(LayerId::Group),
    };
    let one = match steps[..] {
        ["units", unit] => Name::parse(unit).ok().map(Missed::Unit),
        [folder @ ("stages" | "groups"), name] => layer(folder, name).map(Missed::Layer),
        [folder @ ("stages" | "groups"), name, of] => layer(folder, name).and_then(|layer| {
            let unit = Name::parse(split_key(of).0).ok()?;
            Some(if of == "shared" { Missed::Layer(layer) } else { Missed::UnitIn(layer, unit) })
        }),
        _ if path == WAIVERS => Some(Missed::Waivers),
        _ if path == MANIFEST || steps[0] == "shared" || steps.len() == 1 => return None,
        _ => return Some(units_made_from(ledger, path)),
    };
    Some(one.into_iter().collect())
}

/// The units with an output that this file is the template of.
fn units_made_from(ledger: &Ledger, path: &str) -> BTreeSet<Missed> {
    let units = ledger.units.iter().filter(|unit| {
        unit.outputs.iter().any(|output| output.template.as_ref().is_some_and(|it| it.path == path))
    });
    units.map(|unit| Missed::Unit(unit.name.clone())).collect()
}

fn without_unit(ledger: &mut Ledger, unit: &Name) {
    let is_it = |name: &str| name == unit.as_str();
    ledger.units.retain(|known| known.name != *unit);
    ledger.strangers.retain(|stranger| !is_it(&stranger.unit));
    ledger.table_faults.retain(|fault| !is_it(fault.owner.names().0));
}

/// Takes out the settings of a layer: all of them, or those for one unit and its instances.
fn without_settings(ledger: &mut Ledger, layer: LayerId, unit: Option<&Name>) {
    let position = layer.position(ledger.stages.len());
    let is_meant = |name: &str| unit.is_none_or(|unit| unit.as_str() == name);
    for known in ledger.units.iter_mut().filter(|known| is_meant(known.name.as_str())) {
        let known = Arc::make_mut(known);
        known.settings[position] = Arc::default();
        known.strays.retain(|stray| stray.layer != layer);
    }
    let is_gone = |of: LayerId, name: &str| of == layer && is_meant(name);
    ledger.strangers.retain(|stranger| !is_gone(stranger.layer, &stranger.unit));
    ledger.table_faults.retain(|fault| !fault.layer.is_some_and(|of| is_gone(of, fault.owner.names().0)));
    if unit.is_none() {
        let in_folder = ledger.layers[position].in_folder;
        ledger.layers[position] = LayerSettings { in_folder, ..LayerSettings::default() };
    }
}
