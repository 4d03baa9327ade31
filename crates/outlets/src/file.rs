//! Files that somebody else has written: never trusted to be small, text, or files at all.

use std::io;
use std::path::Path;

use cledger_store::{FileError as Unread, read_named};
use zeroize::Zeroizing;

/// The largest file of names and values, in bytes.
pub const LARGEST: usize = 16 << 20;

/// Why a file is not read.
#[derive(Debug, thiserror::Error)]
pub enum FileError {
    /// There is none.
    #[error("it is not there")]
    NotThere,
    /// It is a folder.
    #[error("it is a folder")]
    Folder,
    /// It is a pipe, a device or a socket.
    #[error("it is no regular file")]
    Special,
    /// It is a link, or lies below one.
    #[error("it is a link, or below one, and links are not followed there")]
    Link,
    /// Its bytes are no text.
    #[error("it is not UTF-8 text")]
    NotText,
    /// It is larger than so many bytes.
    #[error("it is larger than {} MiB, which no file of names and values is", .0 >> 20)]
    TooLarge(usize),
    /// The system refuses.
    #[error("{0}")]
    Io(io::Error),
}

impl From<Unread> for FileError {
    fn from(error: Unread) -> Self {
        if error.is_not_there() {
            return FileError::NotThere;
        }
        match error {
            Unread::Io(error) => FileError::Io(error),
            Unread::Folder => FileError::Folder,
            Unread::Special => FileError::Special,
            Unread::Link | Unread::LeadsOut => FileError::Link,
            Unread::NotUtf8(_) => FileError::NotText,
            Unread::TooLarge(most) => FileError::TooLarge(usize::try_from(most).unwrap_or(usize::MAX)),
            error @ Unread::TooMany => FileError::Io(io::Error::other(error.to_string())),
        }
    }
}

/// The bytes of a file that is not too large.
pub fn bytes(path: &Path, largest: usize) -> Result<Vec<u8>, FileError> {
    Ok(read_named(path, u64::try_from(largest).unwrap_or(u64::MAX))?)
}

/// The text of a file of names and values.
pub fn text(path: &Path) -> Result<Zeroizing<String>, FileError> {
    text_up_to(path, LARGEST)
}

/// The text of a file that is not too large.
pub fn text_up_to(path: &Path, largest: usize) -> Result<Zeroizing<String>, FileError> {
    String::from_utf8(bytes(path, largest)?).map(Zeroizing::new).map_err(|_| FileError::NotText)
}
