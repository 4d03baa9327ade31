//! `keys/readers.toml`: who may read what, for those who cannot open the key files.
//!
//! What counts is inside the key files. A key is never wrapped for somebody because this list names
//! them.

use std::collections::BTreeMap;

use cledger_core::cipher::KeyScope;
use cledger_core::name::Name;
use serde::{Deserialize, Serialize};

use super::KeyError;
use super::key_file::KeyFile;
use crate::tree::Tree;

/// The list's file, from the ledger's folder.
pub const READERS: &str = "keys/readers.toml";

const HEAD: &str = "# Who may read the secrets of which stages and groups. `cledger key` writes this list, for those\n\
                    # who cannot open the key files themselves; what counts is inside the key files.\n";

/// The list.
#[derive(Debug, Clone, Default, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Readers {
    format: u8,
    /// Public keys by their readers' names.
    #[serde(default, rename = "readers")]
    recipients: BTreeMap<Name, String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    stages: BTreeMap<Name, Listed>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    groups: BTreeMap<Name, Listed>,
}

#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
struct Listed {
    /// The id of the data key.
    key: String,
    readers: Vec<Name>,
}

impl Readers {
    pub(super) fn read(tree: &dyn Tree) -> Result<Self, KeyError> {
        let wrong = |reason: String| KeyError::Readers(reason);
        let Some(text) = tree.text(READERS).map_err(|error| wrong(error.to_string()))? else {
            return Ok(Self { format: 1, ..Self::default() });
        };
        let list: Self = toml::from_str(&text).map_err(|error| wrong(error.to_string().trim().to_owned()))?;
        if list.format != 1 {
            return Err(wrong(format!("its format is {}, and this cledger knows 1", list.format)));
        }
        Ok(list)
    }

    fn of(&self, scope: &KeyScope) -> Option<&Listed> {
        match scope {
            KeyScope::Stage(name) => self.stages.get(name),
            KeyScope::Group(name) => self.groups.get(name),
        }
    }

    /// The id of a stage's or group's data key.
    pub fn key_id(&self, scope: &KeyScope) -> Option<String> {
        Some(self.of(scope)?.key.clone())
    }

    /// Whose data key has this id.
    pub fn with_key(&self, id: &str) -> Option<KeyScope> {
        let stages = self.stages.iter().map(|(name, listed)| (KeyScope::Stage(name.clone()), listed));
        let groups = self.groups.iter().map(|(name, listed)| (KeyScope::Group(name.clone()), listed));
        stages.chain(groups).find(|(_, listed)| listed.key == id).map(|(scope, _)| scope)
    }

    /// The names of those who may read a stage's or group's secrets.
    pub fn names(&self, scope: &KeyScope) -> &[Name] {
        self.of(scope).map_or(&[], |listed| listed.readers.as_slice())
    }

    /// The public key of a reader, as this list says.
    pub fn recipient(&self, name: &Name) -> Option<&str> {
        self.recipients.get(name).map(String::as_str)
    }

    /// Enters a key file as it is now.
    pub(super) fn enter(&mut self, file: &KeyFile) {
        for reader in &file.readers {
            self.recipients.insert(reader.name.clone(), reader.recipient.to_string());
        }
        let readers = file.readers.iter().map(|reader| reader.name.clone()).collect();
        let listed = Listed { key: file.key.id(), readers };
        match file.scope.clone() {
            KeyScope::Stage(name) => self.stages.insert(name, listed),
            KeyScope::Group(name) => self.groups.insert(name, listed),
        };
        self.forget_strangers();
    }

    /// Takes a stage's or group's key out of the list.
    pub(super) fn leave(&mut self, scope: &KeyScope) {
        match scope {
            KeyScope::Stage(name) => self.stages.remove(name),
            KeyScope::Group(name) => self.groups.remove(name),
        };
        self.forget_strangers();
    }

    /// Takes out those who may read nothing any more.
    fn forget_strangers(&mut self) {
        let listed = || self.stages.values().chain(self.groups.values());
        let known: Vec<Name> = listed().flat_map(|listed| listed.readers.iter().cloned()).collect();
        self.recipients.retain(|name, _| known.contains(name));
    }

    /// The list's text; `None` if nothing is left in it.
    pub(super) fn text(&self) -> Option<String> {
        if self.stages.is_empty() && self.groups.is_empty() {
            return None;
        }
        // Names and texts always serialise.
        Some(format!("{HEAD}{}", toml::to_string(self).unwrap_or_default()))
    }
}
