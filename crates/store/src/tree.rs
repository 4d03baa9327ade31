//! Where a ledger's files come from: a folder on disk, or texts in memory.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::ops::Bound;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use crate::folder::{FileError, Folder, Links};

/// The largest file of a ledger, in bytes.
pub const LARGEST_FILE: u64 = 8 << 20;

/// The largest ledger, in bytes.
pub(crate) const LARGEST_LEDGER: u64 = 256 << 20;

/// The most files of a ledger.
pub(crate) const MOST_FILES: u64 = 200_000;

/// A folder of files, by paths with `/` between their parts.
pub trait Tree: Send + Sync {
    /// The text of a file; `None` if there is no such file.
    fn text(&self, path: &str) -> Result<Option<String>, FileError>;
    /// The names in a folder, sorted; `None` if there is no such folder or it is not one.
    fn names(&self, folder: &str) -> Result<Option<Vec<String>>, FileError>;
    /// Whether there is such a folder.
    fn is_folder(&self, path: &str) -> bool;
}

/// The new texts of files, by path; `None` for a file that goes.
pub type Changed = BTreeMap<String, Option<String>>;

/// A folder on disk. Links in it are followed as long as they stay in it.
pub struct Disk {
    root: PathBuf,
    folder: OnceLock<Result<Folder, io::ErrorKind>>,
    /// Texts that take the place of those on disk: of a change that is open.
    over: Changed,
}

impl Disk {
    /// The folder at this path, opened when something in it is first asked for.
    pub fn new(root: impl Into<PathBuf>) -> Self {
        Self::with(root, Changed::new())
    }

    /// The same as it is once an open change is made.
    pub fn with(root: impl Into<PathBuf>, over: Changed) -> Self {
        Self { root: root.into(), folder: OnceLock::new(), over }
    }

    fn folder(&self) -> Result<&Folder, FileError> {
        let opened = self.folder.get_or_init(|| Folder::open(&self.root).map_err(|error| error.kind()));
        opened.as_ref().map_err(|kind| FileError::Io((*kind).into()))
    }
}

/// What lies on disk, whatever change is open.
struct Lying<'d>(&'d Disk);

impl Tree for Lying<'_> {
    fn text(&self, path: &str) -> Result<Option<String>, FileError> {
        self.0.folder()?.text(Path::new(path), LARGEST_FILE, Links::Inside)
    }

    fn names(&self, folder: &str) -> Result<Option<Vec<String>>, FileError> {
        self.0.folder()?.names(Path::new(folder), Links::Inside)
    }

    fn is_folder(&self, path: &str) -> bool {
        self.0.folder().is_ok_and(|folder| folder.is_folder(Path::new(path), Links::Inside))
    }
}

impl Tree for Disk {
    fn text(&self, path: &str) -> Result<Option<String>, FileError> {
        Overlay::new(&Lying(self), &self.over).text(path)
    }

    fn names(&self, folder: &str) -> Result<Option<Vec<String>>, FileError> {
        // Without an open change there is nothing to lay over, and no folder becomes one without names.
        if self.over.is_empty() {
            Lying(self).names(folder)
        } else {
            Overlay::new(&Lying(self), &self.over).names(folder)
        }
    }

    fn is_folder(&self, path: &str) -> bool {
        Overlay::new(&Lying(self), &self.over).is_folder(path)
    }
}

/// Files in memory, by path.
#[derive(Debug, Clone, Default)]
pub struct Memory(pub BTreeMap<String, String>);

impl<P: Into<String>, T: Into<String>> FromIterator<(P, T)> for Memory {
    fn from_iter<I: IntoIterator<Item = (P, T)>>(files: I) -> Self {
        Self(files.into_iter().map(|(path, text)| (path.into(), text.into())).collect())
    }
}

impl Memory {
    /// The paths of the files in a folder and its folders, from there.
    fn below<'m>(&'m self, inside: &'m str) -> impl Iterator<Item = &'m str> {
        let from = self.0.range::<str, _>((Bound::Included(inside), Bound::Unbounded));
        from.map_while(move |(path, _)| path.strip_prefix(inside))
    }
}

impl Tree for Memory {
    fn text(&self, path: &str) -> Result<Option<String>, FileError> {
        Ok(self.0.get(path).cloned())
    }

    fn names(&self, folder: &str) -> Result<Option<Vec<String>>, FileError> {
        let inside = format!("{folder}/");
        let mut names: Vec<String> =
            self.below(&inside).map(|rest| rest.split('/').next().unwrap_or(rest).to_owned()).collect();
        names.dedup();
        Ok((!names.is_empty()).then_some(names))
    }

    fn is_folder(&self, path: &str) -> bool {
        self.below(&format!("{path}/")).next().is_some()
    }
}

/// A tree as it will be once changes are made.
pub struct Overlay<'t> {
    base: &'t dyn Tree,
    changed: &'t Changed,
}

impl<'t> Overlay<'t> {
    /// Lays changes over a tree.
    pub fn new(base: &'t dyn Tree, changed: &'t Changed) -> Self {
        Self { base, changed }
    }
}

impl Tree for Overlay<'_> {
    fn text(&self, path: &str) -> Result<Option<String>, FileError> {
        match self.changed.get(path) {
            Some(text) => Ok(text.clone()),
            None => self.base.text(path),
        }
    }

    fn names(&self, folder: &str) -> Result<Option<Vec<String>>, FileError> {
        let mut names = self.base.names(folder)?.unwrap_or_default();
        let inside = format!("{folder}/");
        for (path, text) in self.changed {
            let Some(rest) = path.strip_prefix(&inside) else { continue };
            let (name, is_file) = rest.split_once('/').map_or((rest, true), |(name, _)| (name, false));
            if text.is_some() && !names.iter().any(|known| known == name) {
                names.push(name.to_owned());
            } else if text.is_none() && is_file {
                names.retain(|known| known != name);
            }
        }
        // A folder of which all files go is none any more.
        let losing = |(path, text): (&String, &Option<String>)| -> Option<String> {
            let (name, _) = path.strip_prefix(&inside).filter(|_| text.is_none())?.split_once('/')?;
            Some(name.to_owned())
        };
        let losing: BTreeSet<String> = self.changed.iter().filter_map(losing).collect();
        names.retain(|name| !losing.contains(name) || self.is_folder(&format!("{inside}{name}")));
        names.sort_unstable();
        Ok((!names.is_empty()).then_some(names))
    }

    fn is_folder(&self, path: &str) -> bool {
        let inside = format!("{path}/");
        let made =
            |(changed, text): (&String, &Option<String>)| text.is_some() && changed.starts_with(&inside);
        let loses =
            |(changed, text): (&String, &Option<String>)| text.is_none() && changed.starts_with(&inside);
        if self.changed.iter().any(made) {
            return true;
        }
        self.base.is_folder(path)
            && (!self.changed.iter().any(loses) || self.names(path).is_ok_and(|names| names.is_some()))
    }
}
