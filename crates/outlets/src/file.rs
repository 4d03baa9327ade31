//! Files that somebody else has written: never trusted to be small, or text.

use std::fs::File;
use std::io::{self, Read as _};
use std::path::Path;

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

/// The bytes of a file that is not too large.
pub fn bytes(path: &Path, largest: usize) -> Result<Vec<u8>, FileError> {
    let wrong = |error: io::Error| match error.kind() {
        io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => FileError::NotThere,
        io::ErrorKind::IsADirectory => FileError::Folder,
        _ => FileError::Io(error),
    };
    let mut bytes = Vec::new();
    // One more byte than allowed tells that there are more.
    let most = u64::try_from(largest).unwrap_or(u64::MAX).saturating_add(1);
    File::open(path).map_err(wrong)?.take(most).read_to_end(&mut bytes).map_err(wrong)?;
    if bytes.len() > largest { Err(FileError::TooLarge(largest)) } else { Ok(bytes) }
}

/// The text of a file of names and values.
pub fn text(path: &Path) -> Result<Zeroizing<String>, FileError> {
    String::from_utf8(bytes(path, LARGEST)?).map(Zeroizing::new).map_err(|_| FileError::NotText)
}
