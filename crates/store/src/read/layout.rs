//! Which files a ledger has: one file or a folder for each stage and group.

use std::collections::BTreeMap;

use cledger_core::model::{GroupId, LayerId, StageId};
use cledger_core::name::{Name, nearest};

use super::documents::Documents;
use super::manifest::Manifest;
use crate::mistake::Mistake;

/// Something in a folder of the ledger, by its name without `.toml`.
pub(super) struct Listed {
    pub(super) name: Name,
    /// The path of its file, if it has one.
    pub(super) file: Option<String>,
    /// The path of its folder, if it has one.
    pub(super) folder: Option<String>,
}

/// What is in a folder of the ledger, by name: TOML files and folders, nothing hidden.
pub(super) fn list(documents: &Documents<'_>, folder: &str) -> Vec<Listed> {
    let mut listed: BTreeMap<Name, Listed> = BTreeMap::new();
    for (base, path, is_file) in names(documents, folder) {
        match Name::parse(&base) {
            Ok(name) => {
                let empty = Listed { name: name.clone(), file: None, folder: None };
                let known = listed.entry(name).or_insert(empty);
                *(if is_file { &mut known.file } else { &mut known.folder }) = Some(path);
            }
            Err(error) => documents.mistakes.push(bad_name(&path, &base, &error.to_string())),
        }
    }
    listed.into_values().collect()
}

/// The names in a folder without `.toml`, their paths, and whether they are files.
pub(super) fn names(documents: &Documents<'_>, folder: &str) -> Vec<(String, String, bool)> {
    let names = match documents.tree.names(folder) {
        Ok(names) => names.unwrap_or_default(),
        Err(error) => {
            documents.mistakes.push(Mistake::of(folder, error.to_string()));
            return Vec::new();
        }
    };
    let mut found = Vec::new();
    for name in names {
        let path = format!("{folder}/{name}");
        if name.starts_with('.') {
            continue;
        }
        if let Some(base) = name.strip_suffix(".toml") {
            found.push((base.to_owned(), path, true));
        } else if matches!(documents.tree.names(&path), Ok(Some(_))) {
            found.push((name, path, false));
        }
    }
    found
}

pub(super) fn bad_name(path: &str, name: &str, reason: &str) -> Mistake {
    Mistake::of(path, format!("`{name}` is no name: {reason}")).help("rename it, or move it away")
}

/// Where the settings of a layer stand.
pub(super) enum LayerFiles {
    /// Nowhere.
    None,
    /// In one file.
    File(String),
    /// In a folder with a file for each unit.
    Folder(String),
}

/// Where the settings of all layers stand.
pub(super) struct Layout {
    /// By layer: stages first, then groups.
    pub(super) layers: Vec<(LayerId, LayerFiles)>,
}

impl Layout {
    /// Finds the files of all stages and groups.
    pub(super) fn new(documents: &Documents<'_>, manifest: &Manifest, groups: Vec<Listed>) -> Self {
        let mut stages = list(documents, "stages");
        for listed in &stages {
            if manifest.stages.iter().any(|stage| stage.name == listed.name) {
                continue;
            }
            let path = listed.file.as_ref().or(listed.folder.as_ref());
            let names = manifest.stages.iter().map(|stage| stage.name.as_str());
            let help = match nearest(listed.name.as_str(), names) {
                Some(near) => format!("rename it to `{near}`, or declare the stage in ledger.toml"),
                None => "declare the stage in ledger.toml, or move these settings away".to_owned(),
            };
            let message = format!("there is no stage `{}` for these settings", listed.name);
            let path = path.map_or("stages", String::as_str);
            documents.mistakes.push(Mistake::of(path, message).help(help));
        }
        let mut layers = Vec::new();
        for (at, stage) in (0_u16..).zip(&manifest.stages) {
            let files = files_of(documents, &mut stages, &stage.name);
            layers.push((LayerId::Stage(StageId(at)), files));
        }
        let mut groups = groups;
        for (at, group) in (0_u16..).zip(&manifest.groups) {
            let files = files_of(documents, &mut groups, &group.name);
            layers.push((LayerId::Group(GroupId(at)), files));
        }
        Self { layers }
    }
}

fn files_of(documents: &Documents<'_>, listed: &mut Vec<Listed>, name: &Name) -> LayerFiles {
    let Some(at) = listed.iter().position(|known| known.name == *name) else {
        return LayerFiles::None;
    };
    match listed.swap_remove(at) {
        Listed { file: Some(file), folder: Some(folder), .. } => {
            let message = format!("both `{file}` and the folder `{folder}/` hold its settings");
            let help = "move the settings into one of the two, and remove the other";
            documents.mistakes.push(Mistake::of(&file, message).help(help));
            LayerFiles::File(file)
        }
        Listed { file: Some(file), .. } => LayerFiles::File(file),
        Listed { folder: Some(folder), .. } => LayerFiles::Folder(folder),
        Listed { .. } => LayerFiles::None,
    }
}
