//! Writing files so that each is either the old one or the new one, whatever happens.

use std::io;
use std::path::{Path, PathBuf};

use crate::folder::Folder;
use crate::mode::{Mode, Written};

/// A file could not be written.
#[derive(Debug, thiserror::Error)]
#[error("`{}` cannot be written: {}", path.display(), reason(source))]
pub struct WriteError {
    path: PathBuf,
    source: io::Error,
}

/// What an error says; that of a link in words of ours.
fn reason(error: &io::Error) -> String {
    if error.raw_os_error() == Some(rustix::io::Errno::LOOP.raw_os_error()) {
        "it is a link, or below one, and nothing is written through links".to_owned()
    } else {
        error.to_string()
    }
}

impl WriteError {
    /// Why this file could not be written.
    pub fn new(path: PathBuf, source: io::Error) -> Self {
        Self { path, source }
    }

    /// Why, without the path.
    pub fn reason(&self) -> String {
        reason(&self.source)
    }
}

/// Writes a file that somebody named, and the folders above it where they are missing, by way of a temporary
/// file next to it that is flushed to disk and then takes its name.
pub fn write_atomically(path: &Path, content: &[u8], mode: Mode) -> Result<Written, WriteError> {
    in_its_folder(path, |folder, name| folder.write(name, content, mode))
}

/// Writes a file for its owner alone, unless there is one already.
pub(crate) fn write_new(path: &Path, content: &[u8]) -> Result<Written, WriteError> {
    in_its_folder(path, |folder, name| folder.write_new(name, content))
}

fn in_its_folder(
    path: &Path,
    write: impl FnOnce(&Folder, &Path) -> io::Result<Written>,
) -> Result<Written, WriteError> {
    let wrong = |source| WriteError::new(path.to_owned(), source);
    let name = path.file_name().ok_or_else(|| wrong(io::ErrorKind::InvalidInput.into()))?;
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
    let folder = Folder::make(folder.unwrap_or(Path::new("."))).map_err(wrong)?;
    write(&folder, Path::new(name)).map_err(wrong)
}
