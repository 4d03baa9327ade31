//! Finding the ledger that a folder belongs to.

use std::path::{Path, PathBuf};

use crate::MANIFEST;

/// No ledger was found.
#[derive(Debug, thiserror::Error)]
pub enum FindError {
    /// The folder that was named holds none.
    #[error("there is no ledger in `{}`: it has no {MANIFEST}", .0.display())]
    NotThere(PathBuf),
    /// Neither this folder nor one above it holds one.
    #[error("there is no ledger here: neither `{}` nor a folder above it has a {MANIFEST}", .0.display())]
    NotAbove(PathBuf),
}

/// The folder of the ledger: the one that is named, else the nearest one upwards from `here` that
/// has a `ledger.toml`.
pub fn find(named: Option<&Path>, here: &Path) -> Result<PathBuf, FindError> {
    // A link that leads nowhere counts: reading it then says what is wrong with it.
    let holds = |folder: &Path| folder.join(MANIFEST).symlink_metadata().is_ok();
    if let Some(named) = named {
        return holds(named).then(|| named.to_owned()).ok_or_else(|| FindError::NotThere(named.to_owned()));
    }
    here.ancestors()
        .find(|folder| holds(folder))
        .map(Path::to_owned)
        .ok_or_else(|| FindError::NotAbove(here.to_owned()))
}
