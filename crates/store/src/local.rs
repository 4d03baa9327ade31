//! A ledger's local state, `.cledger/`: whether it is this user's, or came with the ledger.
//!
//! Whoever can commit to a ledger could put a folder of that name there: as a link, or as files in version
//! control. Such a folder is never written to, and what lies in it counts for nothing.

use std::io;
use std::path::Path;

use rustix::fs::FileType;

use crate::folder::Folder;
use crate::{git, owner};

/// Where local state is kept; never in version control.
pub(crate) const STATE: &str = ".cledger";

/// Why a ledger's local state is not taken for one's own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Foreign {
    /// It is a link.
    #[error("`{STATE}` is a link")]
    Link,
    /// It is no folder.
    #[error("`{STATE}` is no folder")]
    NoFolder,
    /// It belongs to somebody else.
    #[error("`{STATE}` belongs to another user (number {0})")]
    OtherUser(u32),
    /// It is in version control, so that it came with the ledger.
    #[error("`{STATE}` is in version control, so that it may hold what somebody else put there")]
    Tracked,
}

impl Foreign {
    /// What to do about it.
    pub fn help(self) -> &'static str {
        match self {
            Foreign::Tracked => "take it out of version control: git rm -r --cached .cledger",
            _ => "move it away, and it is made anew",
        }
    }
}

/// A ledger's local state.
#[derive(Debug)]
pub enum Local {
    /// There is none yet.
    None,
    /// It is this user's.
    Ours(Folder),
    /// It is not, for this reason.
    Foreign(Foreign),
}

impl Local {
    /// Looks at the local state of the ledger in a folder.
    pub fn of(root: &Folder) -> io::Result<Self> {
        match Self::at_a_glance(root)? {
            Local::Ours(_) if git::is_committed(root.path(), STATE) => Ok(Local::Foreign(Foreign::Tracked)),
            local => Ok(local),
        }
    }

    /// The same without a look at version control, which costs the start of a program.
    pub(crate) fn at_a_glance(root: &Folder) -> io::Result<Self> {
        let about = match root.about_entry(Path::new(STATE)) {
            Ok(about) => about,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Local::None),
            Err(error) => return Err(error),
        };
        Ok(match FileType::from_raw_mode(about.st_mode) {
            FileType::Directory if !owner::is_ours(about.st_uid, root.path()) => {
                Local::Foreign(Foreign::OtherUser(about.st_uid))
            }
            FileType::Directory => Local::Ours(root.below(Path::new(STATE))?),
            FileType::Symlink => Local::Foreign(Foreign::Link),
            _ => Local::Foreign(Foreign::NoFolder),
        })
    }

    /// The folder, made where it is not there yet.
    pub(crate) fn make(root: &Folder) -> io::Result<Result<Folder, Foreign>> {
        match Self::of(root)? {
            Local::Ours(folder) => Ok(Ok(folder)),
            Local::Foreign(foreign) => Ok(Err(foreign)),
            Local::None => {
                let ignored = Path::new(STATE).join(".gitignore");
                root.write(&ignored, b"*\n", crate::Mode::Usual)?;
                Ok(Ok(root.below(Path::new(STATE))?))
            }
        }
    }
}
