//! Taking something out of a ledger, with the settings that are made for it.

use std::collections::BTreeSet;

use cledger_core::address::Owner;
use cledger_core::model::{LayerId, Ledger, Subject};
use cledger_core::name::Name;

use super::rename::{Named, is_meant};
use super::{Changed, Edit, EditError, Item, ListedWhat, What, apply};
use crate::tree::Tree;

/// The files that change when these things go. What mentions them elsewhere stays as it is.
pub fn remove(tree: &dyn Tree, ledger: &Ledger, things: &[Named]) -> Result<Changed, EditError> {
    let (mut edits, mut gone) = (Vec::new(), Vec::new());
    for thing in things {
        match thing {
            Named::Entry(owner, entry) => of_entry(ledger, owner, entry, None, &mut edits),
            Named::Field(owner, entry, field) => of_entry(ledger, owner, entry, Some(field), &mut edits),
            Named::Unit(unit) => {
                gone.push(format!("units/{unit}.toml"));
                owner_settings(
                    ledger,
                    |key| key.split('+').next() == Some(unit.as_str()),
                    &mut edits,
                    &mut gone,
                );
            }
            Named::Instance(unit, instance) => {
                let (file, path) =
                    (format!("units/{unit}.toml"), vec!["instances".to_owned(), instance.to_string()]);
                edits.push(Edit { file, path, header: 0, what: What::RemoveAll });
                let wanted = format!("{unit}+{instance}");
                owner_settings(ledger, |key| key == wanted, &mut edits, &mut gone);
            }
            Named::Outlet(name) => edits.push(listed("outlet", name)),
            Named::Rule(name) => edits.push(listed("rule", name)),
            Named::Stage(stage) => of_layer("stage", "stages", stage, ledger, &mut edits, &mut gone),
            Named::Group(group) => of_layer("group", "groups", group, ledger, &mut edits, &mut gone),
        }
    }
    edits.retain(|edit| !gone.contains(&edit.file));
    let mut changed = apply(tree, &edits)?;
    let there = |path: &String| ledger.files.0.iter().any(|file| file.path == *path);
    changed.extend(gone.into_iter().filter(there).map(|path| (path, None)));
    Ok(changed)
}

/// The declaration and the settings of an entry, or of one of its fields.
fn of_entry(ledger: &Ledger, owner: &Owner, name: &Name, field: Option<&Name>, edits: &mut Vec<Edit>) {
    let subject = match owner {
        Owner::Shared => Some(Subject::Shared),
        Owner::Unit(unit, _) => ledger.unit_id(unit.as_str()).map(|id| Subject::Unit(id, None)),
    };
    let Some(subject) = subject else { return };
    let mut known = ledger.slots(subject).entries.iter().map(|known| ledger.entry(subject, known.entry));
    let Some(entry) = known.find(|entry| entry.name == *name) else { return };
    let kind = entry.kind.table();
    let mut path = vec![kind.to_owned(), name.to_string()];
    if let Some(field) = field {
        path.extend(["fields".to_owned(), field.to_string()]);
    }
    let file = ledger.files.locate(entry.place).file.to_owned();
    // A field goes, and its entry stays.
    let what = if field.is_some() { What::RemoveInside(2) } else { What::RemoveAll };
    edits.push(Edit { file, path, header: 0, what });
    // Most files say nothing of it.
    let files = ledger.files.0.iter().filter(|file| file.text.contains(name.as_str()));
    let saying: BTreeSet<&str> = files.map(|file| file.path.as_str()).collect();
    for subject in subjects(ledger, owner, name) {
        let key = match subject {
            Subject::Shared => "shared".to_owned(),
            Subject::Unit(..) => ledger.owner(subject).to_string(),
        };
        for layer in ledger.layer_ids() {
            let (file, table) = ledger.settings_place(subject, layer);
            if !saying.contains(file.as_str()) {
                continue;
            }
            let mut path = match (table, subject) {
                (None, _) => Vec::new(),
                (Some(_), Subject::Shared) => vec![key.clone()],
                (Some(_), Subject::Unit(..)) => vec!["units".to_owned(), key.clone()],
            };
            path.push(name.to_string());
            path.extend(field.map(Name::to_string));
            edits.push(Edit { file, path, header: 0, what: What::RemoveAll });
        }
    }
}

/// Those who see an entry: a shared one is also set for units that use it.
fn subjects(ledger: &Ledger, owner: &Owner, name: &Name) -> Vec<Subject> {
    let shared = matches!(owner, Owner::Shared).then_some(Subject::Shared);
    let units = ledger
        .unit_ids()
        .filter(|&id| is_meant(ledger, owner, name, &Owner::Unit(ledger.unit(id).name.clone(), None)));
    shared.into_iter().chain(units.flat_map(|id| ledger.subjects_of(id))).collect()
}

/// All settings of a unit or instance: files of folders, and tables of single files.
fn owner_settings(ledger: &Ledger, is: impl Fn(&str) -> bool, edits: &mut Vec<Edit>, gone: &mut Vec<String>) {
    for file in &ledger.files.0 {
        let stem = file.path.strip_suffix(".toml").unwrap_or(&file.path);
        if let ["stages" | "groups", _, key] = stem.split('/').collect::<Vec<_>>()[..]
            && is(key)
        {
            gone.push(file.path.clone());
        }
    }
    let keys: Vec<String> = ledger
        .unit_ids()
        .flat_map(|id| {
            let instances = ledger
                .unit(id)
                .instances
                .iter()
                .map(|instance| format!("{}+{}", ledger.unit(id).name, instance.name));
            std::iter::once(ledger.unit(id).name.to_string()).chain(instances).collect::<Vec<_>>()
        })
        .filter(|key| is(key))
        .collect();
    for layer in ledger.layer_ids().filter(|&layer| !ledger.layer(layer).in_folder) {
        for key in &keys {
            let file = layer_file(ledger, layer);
            let path = vec!["units".to_owned(), key.clone()];
            edits.push(Edit { file, path, header: 0, what: What::RemoveAll });
        }
    }
}

fn layer_file(ledger: &Ledger, layer: LayerId) -> String {
    ledger.settings_place(Subject::Shared, layer).0
}

/// A stage or group: its table in `ledger.toml`, and its files.
fn of_layer(
    table: &str,
    folder: &str,
    name: &Name,
    ledger: &Ledger,
    edits: &mut Vec<Edit>,
    gone: &mut Vec<String>,
) {
    edits.push(listed(table, name));
    let (file, inside) = (format!("{folder}/{name}.toml"), format!("{folder}/{name}/"));
    let files = ledger.files.0.iter().map(|file| &file.path);
    gone.extend(files.filter(|path| **path == file || path.starts_with(&inside)).cloned());
}

/// The end of a table of a list in `ledger.toml`.
fn listed(list: &str, name: &Name) -> Edit {
    let what = What::Listed(vec![Item::named(list, name.as_str())], ListedWhat::Remove);
    Edit { file: crate::MANIFEST.to_owned(), path: Vec::new(), header: 0, what }
}
