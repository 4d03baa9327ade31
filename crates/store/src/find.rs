//! Finding the ledger that a folder belongs to.

use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use crate::{MANIFEST, owner};

/// No ledger was found.
#[derive(Debug, thiserror::Error)]
pub enum FindError {
    /// The folder that was named holds none.
    #[error("there is no ledger in `{}`: it has no {MANIFEST}", .0.display())]
    NotThere(PathBuf),
    /// Neither this folder nor one above it holds one.
    #[error("there is no ledger here: neither `{}` nor a folder above it has a {MANIFEST}", .0.display())]
    NotAbove(PathBuf),
    /// The nearest one belongs to somebody else, by this number.
    #[error("the ledger in `{}` belongs to another user (number {uid}), and was not named", folder.display())]
    OtherUser {
        /// The folder.
        folder: PathBuf,
        /// Whose it is.
        uid: u32,
    },
}

/// The folder of the ledger: the one that is named, else the nearest one upwards from `here` that
/// has a `ledger.toml`. One that belongs to another user is only meant where it is named.
pub fn find(named: Option<&Path>, here: &Path) -> Result<PathBuf, FindError> {
    // A link that leads nowhere counts: reading it then says what is wrong with it.
    let holds = |folder: &Path| folder.join(MANIFEST).symlink_metadata().is_ok();
    if let Some(named) = named {
        return holds(named).then(|| named.to_owned()).ok_or_else(|| FindError::NotThere(named.to_owned()));
    }
    let found = here.ancestors().find(|folder| holds(folder));
    let found = found.map(Path::to_owned).ok_or_else(|| FindError::NotAbove(here.to_owned()))?;
    match fs::metadata(&found) {
        Ok(about) if !owner::is_ours(about.uid(), here) => {
            Err(FindError::OtherUser { folder: found, uid: about.uid() })
        }
        _ => Ok(found),
    }
}
