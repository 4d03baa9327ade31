//! What this program remembers of its user: for each ledger, what it may reach, and the keys that were seen.
//!
//! It lies in the user's state folder, `CLEDGER_STATE` or else `cledger` in the one that the XDG Base Directory
//! Specification names, in one JSON file for each ledger, by the ledger's folder and name. Only the user can
//! read and write it. Commands that only read the ledger only read it, too.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};

use cledger_core::name::Name;
use cledger_core::trust::Named;
use etcetera::BaseStrategy as _;
use serde::{Deserialize, Serialize};

use crate::folder::{FileError, Folder, Links};
use crate::mode::Mode;

/// The version of the form.
const FORMAT: u32 = 1;

/// The largest file of what is remembered, in bytes.
const LARGEST: u64 = 64 << 20;

/// The environment variable that names the state folder.
const VARIABLE: &str = "CLEDGER_STATE";

/// Why nothing can be remembered, or recalled.
#[derive(Debug, thiserror::Error)]
pub enum StateError {
    /// No folder for it is known.
    #[error("no folder is known for what is remembered (name one with {VARIABLE})")]
    NoPlace,
    /// The system refuses.
    #[error("what is remembered in `{}` cannot be kept: {source}", folder.display())]
    Io {
        /// Where it lies.
        folder: PathBuf,
        /// What the system says.
        source: io::Error,
    },
    /// It cannot be read.
    #[error("what is remembered in `{}` cannot be read: {reason}", file.display())]
    Unreadable {
        /// The file.
        file: PathBuf,
        /// Why.
        reason: String,
    },
}

impl StateError {
    fn io(folder: &Path, source: io::Error) -> Self {
        StateError::Io { folder: folder.to_owned(), source }
    }

    fn unreadable(file: PathBuf, reason: impl Into<String>) -> Self {
        StateError::Unreadable { file, reason: reason.into() }
    }
}

/// What is remembered of one ledger.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Remembered {
    format: u32,
    /// The ledger's folder.
    pub folder: String,
    /// The ledger's name.
    pub name: String,
    /// What it may reach; nothing was said of it where this is missing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trusted: Option<BTreeSet<Named>>,
    /// The keys as last seen, by their stages and groups (`stages/test`).
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub keys: BTreeMap<String, SeenKey>,
    /// The last record that was seen of its daybook.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub daybook: Option<SeenRecord>,
}

/// A record of the daybook as it was last seen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SeenRecord {
    /// Its place in the chain.
    pub place: u64,
    /// Its hash.
    pub hash: String,
}

/// A key as it was last seen.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SeenKey {
    /// The id of the data key.
    pub id: String,
    /// How often the key file had been changed.
    pub generation: u64,
    /// What explains a change of the key file, in hexadecimal digits: derived from the data key, which it does
    /// not give away.
    pub link: String,
    /// Its readers with their public keys.
    pub readers: BTreeMap<Name, String>,
}

impl std::fmt::Debug for SeenKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SeenKey")
            .field("id", &self.id)
            .field("generation", &self.generation)
            .finish_non_exhaustive()
    }
}

/// What is remembered of all ledgers.
#[derive(Debug, Clone)]
pub struct State(Option<PathBuf>);

impl State {
    /// What is remembered in this folder; nowhere without one.
    pub fn at(folder: Option<PathBuf>) -> Self {
        Self(folder)
    }

    /// The usual folder: the one that `CLEDGER_STATE` names, else `cledger` in the user's state folder.
    pub fn usual() -> Self {
        let named = std::env::var_os(VARIABLE).filter(|path| !path.is_empty()).map(PathBuf::from);
        Self(named.or_else(|| Some(etcetera::choose_base_strategy().ok()?.state_dir()?.join("cledger"))))
    }

    fn folder(&self) -> Result<&Path, StateError> {
        self.0.as_deref().ok_or(StateError::NoPlace)
    }

    /// What is remembered of the ledger of this name in a folder; `None` if nothing is.
    pub fn recall(&self, root: &Path, name: &str) -> Result<Option<Remembered>, StateError> {
        let Ok(path) = self.folder() else { return Ok(None) };
        let folder = match Folder::open(path) {
            Ok(folder) => folder,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(StateError::io(path, error)),
        };
        Ok(read(&folder, &file_of(root, name))?.filter(|known| known.name == name))
    }

    /// Changes what is remembered of a ledger, while nobody else does.
    pub fn remember(
        &self,
        root: &Path,
        name: &str,
        change: impl FnOnce(&mut Remembered),
    ) -> Result<(), StateError> {
        let path = self.folder()?;
        let io = |error| StateError::io(path, error);
        let folder = Folder::make(path).map_err(io)?;
        let lock = folder.lockable(Path::new("lock"));
        let lock = lock.map_err(|error| io(io::Error::other(error.to_string())))?;
        lock.lock().map_err(io)?;
        let file = file_of(root, name);
        let before = read(&folder, &file)?;
        let mut now = before.clone().unwrap_or_else(|| Remembered {
            format: FORMAT,
            folder: canonical(root).display().to_string(),
            name: name.to_owned(),
            ..Remembered::default()
        });
        change(&mut now);
        if before.as_ref() == Some(&now) {
            return Ok(());
        }
        // Texts, numbers and lists always serialise.
        let text = serde_json::to_vec_pretty(&now).unwrap_or_default();
        folder.write(Path::new(&file), &text, Mode::OwnerOnly).map_err(io)?;
        Ok(())
    }

    /// Everything that is remembered, by the ledgers' folders. What cannot be read is told, one by one.
    pub fn all(&self) -> Result<Vec<Result<Remembered, StateError>>, StateError> {
        let path = self.folder()?;
        let folder = match Folder::open(path) {
            Ok(folder) => folder,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(StateError::io(path, error)),
        };
        let wrong = |error: FileError| StateError::unreadable(path.to_owned(), error.to_string());
        let names = folder.names(Path::new(""), Links::Refused).map_err(wrong)?.unwrap_or_default();
        let files = names
            .into_iter()
            .filter(|name| name.strip_suffix(".json").is_some_and(|base| !base.starts_with('.')));
        let mut found: Vec<_> = files.filter_map(|file| read(&folder, &file).transpose()).collect();
        found.sort_by(|a, b| {
            let key = |it: &Result<Remembered, StateError>| {
                it.as_ref().ok().map(|known| (known.folder.clone(), known.name.clone()))
            };
            key(a).cmp(&key(b))
        });
        Ok(found)
    }
}

fn canonical(root: &Path) -> PathBuf {
    root.canonicalize().unwrap_or_else(|_| root.to_owned())
}

/// The file of a ledger, by its folder and its name.
fn file_of(root: &Path, name: &str) -> String {
    let text = format!("{}\n{name}", canonical(root).display());
    let hash = blake3::hash(text.as_bytes()).to_hex();
    format!("{}.json", &hash[..32])
}

fn read(folder: &Folder, file: &str) -> Result<Option<Remembered>, StateError> {
    let wrong = |reason: String| StateError::unreadable(folder.path().join(file), reason);
    let text =
        folder.text(Path::new(file), LARGEST, Links::Refused).map_err(|error| wrong(error.to_string()))?;
    let Some(text) = text else { return Ok(None) };
    let known: Remembered = serde_json::from_str(&text).map_err(|error| wrong(error.to_string()))?;
    if known.format == FORMAT {
        Ok(Some(known))
    } else {
        Err(wrong(format!("its version is {}, and this cledger knows {FORMAT}", known.format)))
    }
}

#[cfg(test)]
mod tests {
    use cledger_core::trust::Thing;

    use super::*;

    #[test]
    fn each_ledger_is_remembered_by_its_folder_and_name() {
        let kept = tempfile::tempdir().unwrap();
        let state = State::at(Some(kept.path().join("state")));
        let (here, there) = (kept.path().join("a"), kept.path().join("b"));
        assert_eq!(state.recall(&here, "Quays").unwrap(), None);
        let named = Named::new(Thing::Address, "https://boards.example");
        let trust = |known: &mut Remembered| known.trusted = Some(BTreeSet::from([named.clone()]));
        state.remember(&here, "Quays", trust).unwrap();
        let known = state.recall(&here, "Quays").unwrap().unwrap();
        assert_eq!(known.trusted.as_ref().map(BTreeSet::len), Some(1));
        assert_eq!(state.recall(&there, "Quays").unwrap(), None);
        assert_eq!(state.recall(&here, "Others").unwrap(), None);
        assert_eq!(state.all().unwrap().len(), 1);
        let file = kept.path().join("state").join(file_of(&here, "Quays"));
        std::fs::write(&file, "{").unwrap();
        assert!(matches!(state.recall(&here, "Quays"), Err(StateError::Unreadable { .. })));
        assert!(State::at(None).recall(&here, "Quays").unwrap().is_none());
        assert!(matches!(State::at(None).remember(&here, "Quays", |_| {}), Err(StateError::NoPlace)));
    }
}
