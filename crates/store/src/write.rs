//! Writing files so that each is either the old one or the new one, whatever happens.

use std::fs;
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};

/// Who may read a file that is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mode {
    /// Whoever the system's usual rights let.
    Usual,
    /// Its owner alone (0600), since it holds a secret.
    OwnerOnly,
    /// Whoever could before; for a new file as usual.
    AsBefore,
}

/// What writing a file came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Written {
    /// It was not there before.
    New,
    /// It had other content or other rights.
    Changed,
    /// It had this content already and was not touched.
    Unchanged,
}

/// A file could not be written.
#[derive(Debug, thiserror::Error)]
#[error("`{}` cannot be written: {source}", path.display())]
pub struct WriteError {
    path: PathBuf,
    source: io::Error,
}

impl WriteError {
    pub(crate) fn new(path: PathBuf, source: io::Error) -> Self {
        Self { path, source }
    }
}

/// Writes a file, and the folders above it where they are missing, by way of a temporary file next
/// to it that is flushed to disk and then takes its name.
pub fn write_atomically(path: &Path, content: &[u8], mode: Mode) -> Result<Written, WriteError> {
    try_write(path, content, mode, None).map_err(|source| WriteError::new(path.to_owned(), source))
}

/// The same with the temporary file in another folder, where whoever comes next can clear it away
/// if the writing is interrupted.
pub(crate) fn write_by_way_of(
    folder: &Path,
    path: &Path,
    content: &[u8],
    mode: Mode,
) -> Result<Written, WriteError> {
    let written = match try_write(path, content, mode, Some(folder)) {
        // The file is on another disk than the folder, by a mount or a link.
        Err(error) if error.kind() == io::ErrorKind::CrossesDevices => try_write(path, content, mode, None),
        written => written,
    };
    written.map_err(|source| WriteError::new(path.to_owned(), source))
}

/// How the names of temporary files begin.
pub(crate) const TEMPORARY: &str = ".cledger-";

fn try_write(path: &Path, content: &[u8], mode: Mode, by_way_of: Option<&Path>) -> io::Result<Written> {
    let before = match fs::read(path) {
        Ok(before) => Some(before),
        Err(error) if error.kind() == io::ErrorKind::NotFound => None,
        Err(error) => return Err(error),
    };
    if before.as_deref() == Some(content) && has_mode(path, mode)? {
        return Ok(Written::Unchanged);
    }
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
    let folder = folder.unwrap_or(Path::new("."));
    fs::create_dir_all(folder)?;
    let mut temporary =
        tempfile::Builder::new().prefix(TEMPORARY).tempfile_in(by_way_of.unwrap_or(folder))?;
    temporary.write_all(content)?;
    set_mode(temporary.as_file(), path, mode)?;
    temporary.as_file().sync_all()?;
    temporary.persist(path).map_err(|error| error.error)?;
    #[cfg(unix)]
    fs::File::open(folder)?.sync_all()?;
    Ok(if before.is_some() { Written::Changed } else { Written::New })
}

#[cfg(unix)]
fn has_mode(path: &Path, mode: Mode) -> io::Result<bool> {
    use std::os::unix::fs::PermissionsExt as _;
    let open_to_others = fs::metadata(path)?.permissions().mode() & 0o077 != 0;
    Ok(mode != Mode::OwnerOnly || !open_to_others)
}

#[cfg(not(unix))]
fn has_mode(_path: &Path, _mode: Mode) -> io::Result<bool> {
    Ok(true)
}

#[cfg(unix)]
fn set_mode(file: &fs::File, path: &Path, mode: Mode) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt as _;
    let bits = match mode {
        Mode::OwnerOnly => 0o600,
        Mode::AsBefore if path.exists() => fs::metadata(path)?.permissions().mode(),
        Mode::Usual | Mode::AsBefore => 0o644,
    };
    file.set_permissions(fs::Permissions::from_mode(bits))
}

#[cfg(not(unix))]
fn set_mode(_file: &fs::File, _path: &Path, _mode: Mode) -> io::Result<()> {
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_written_once_and_then_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a/b.env");
        let write = |content: &str, mode| write_atomically(&path, content.as_bytes(), mode).unwrap();
        assert_eq!(write("x", Mode::Usual), Written::New);
        let stamp = fs::metadata(&path).unwrap().modified().unwrap();
        assert_eq!(write("x", Mode::Usual), Written::Unchanged);
        assert_eq!(fs::metadata(&path).unwrap().modified().unwrap(), stamp);
        assert_eq!(write("y", Mode::Usual), Written::Changed);
        assert_eq!(fs::read_to_string(&path).unwrap(), "y");
        assert_eq!(fs::read_dir(path.parent().unwrap()).unwrap().count(), 1);
    }

    #[cfg(unix)]
    #[test]
    fn a_file_with_a_secret_is_for_its_owner_alone() {
        use std::os::unix::fs::PermissionsExt as _;
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("x");
        let bits = || fs::metadata(&path).unwrap().permissions().mode() & 0o777;
        write_atomically(&path, b"x", Mode::Usual).unwrap();
        assert_eq!(bits(), 0o644);
        assert_eq!(write_atomically(&path, b"x", Mode::OwnerOnly).unwrap(), Written::Changed);
        assert_eq!(bits(), 0o600);
    }
}
