//! Which files a ledger has: one file or a folder for each stage and group.

use std::collections::BTreeMap;

use cledger_core::model::{GroupId, LayerId, StageId};
use cledger_core::name::{Name, nearest};

use super::documents::Documents;
use super::manifest::Manifest;
use cledger_core::model::Mistake;

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
            documents.mistakes.push(Mistake::of(folder, error.to_string()).help(error.help()));
            return Vec::new();
        }
    };
    let mut found = Vec::new();
    for name in names {
        if name.starts_with('.') {
            continue;
        }
        let path = [folder, "/", &name].concat();
        if let Some(base) = name.strip_suffix(".toml") {
            found.push((base.to_owned(), path, true));
        } else if documents.tree.is_folder(&path) {
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
    /// Finds the files of all stages and groups. Those of one that does not exist are a mistake if
    /// `all_known`.
    pub(super) fn new(documents: &Documents<'_>, manifest: &Manifest, all_known: bool) -> Self {
        let mut stages = list(documents, "stages");
        let mut groups = list(documents, "groups");
        if all_known {
            let names = || manifest.stages.iter().map(|stage| stage.name.as_str());
            let declare = "declare the stage in ledger.toml";
            for listed in &stages {
                must_exist(documents, listed, "stage", declare, names());
            }
            let names = || manifest.groups.iter().map(|group| group.name.as_str());
            let declare = "let a stage list it in its `groups`";
            for listed in &groups {
                must_exist(documents, listed, "group", declare, names());
            }
        }
        let mut layers = Vec::new();
        for (at, stage) in (0_u16..).zip(&manifest.stages) {
            let files = files_of(documents, &mut stages, &stage.name);
            layers.push((LayerId::Stage(StageId(at)), files));
        }
        for (at, group) in (0_u16..).zip(&manifest.groups) {
            let files = files_of(documents, &mut groups, &group.name);
            layers.push((LayerId::Group(GroupId(at)), files));
        }
        Self { layers }
    }
}

/// Refuses settings of a stage or group that `ledger.toml` does not have.
fn must_exist<'n>(
    documents: &Documents<'_>,
    listed: &Listed,
    what: &str,
    declare: &str,
    names: impl Iterator<Item = &'n str> + Clone,
) {
    let name = listed.name.as_str();
    if names.clone().any(|known| known == name) {
        return;
    }
    let path = listed.file.as_ref().or(listed.folder.as_ref()).map_or(what, String::as_str);
    let help = match nearest(name, names) {
        Some(near) => format!("rename it to `{near}`, or {declare}"),
        None => format!("{declare}, or move these settings away"),
    };
    let message = format!("there is no {what} `{name}` for these settings");
    documents.mistakes.push(Mistake::of(path, message).help(help));
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
