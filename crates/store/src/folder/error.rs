//! Why a file could not be read.

use std::io;

use rustix::io::Errno;

/// The most names in one folder that are read.
pub(super) const MOST_NAMES: usize = 200_000;

/// Why a file could not be read.
#[derive(Debug, thiserror::Error)]
pub enum FileError {
    /// The system refused.
    #[error("it cannot be read: {0}")]
    Io(#[from] io::Error),
    /// A folder stands where a file should be.
    #[error("it is a folder, and a file is needed")]
    Folder,
    /// A pipe, device or socket stands there.
    #[error("it is no regular file")]
    Special,
    /// A link stands there or on the way, and is not followed.
    #[error("it is a link, or reached through one, and links are not followed here")]
    Link,
    /// A link leads out of the folder.
    #[error("it is a link that leads out of the folder")]
    LeadsOut,
    /// Its bytes are not UTF-8 from this line on.
    #[error("it is not UTF-8 text: the first wrong byte is in line {0}")]
    NotUtf8(usize),
    /// It is larger than so many bytes.
    #[error("it is larger than {}", mebibytes(*.0))]
    TooLarge(u64),
    /// A folder holds more than 200,000 files.
    #[error("it holds more than {MOST_NAMES} files")]
    TooMany,
}

fn mebibytes(bytes: u64) -> String {
    format!("{} MiB", bytes >> 20)
}

impl FileError {
    /// What to do about it.
    pub fn help(&self) -> &'static str {
        match self {
            FileError::Io(_) => "make it readable, or take it out of the ledger",
            FileError::Folder => "rename the folder, or move it out of the ledger",
            FileError::Special => "put a regular file there",
            FileError::Link | FileError::LeadsOut => "put the file itself in place of the link",
            FileError::NotUtf8(_) => "save it as UTF-8",
            FileError::TooLarge(_) => "split it: a stage or group can be a folder with a file for each unit",
            FileError::TooMany => "part the ledger into several",
        }
    }

    /// Whether nothing is there.
    pub fn is_not_there(&self) -> bool {
        matches!(self, FileError::Io(error)
            if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory))
    }
}

impl From<Errno> for FileError {
    fn from(error: Errno) -> Self {
        match error {
            Errno::LOOP => FileError::Link,
            error => FileError::Io(error.into()),
        }
    }
}
