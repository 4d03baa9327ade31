//! Temporary files, which take their names when all is in them.

use std::fs::{File, TryLockError};
use std::io::{self, Write as _};
use std::os::fd::OwnedFd;
use std::path::Path;

use rustix::fs::{AtFlags, Dir, FileType, OFlags};
use rustix::io::Errno;

use super::opening::{FILE_BITS, OWNER_ONLY, READ, no_bits};

/// How the names of temporary files begin.
const TEMPORARY: &str = ".cledger-";

/// A temporary file, locked as long as it is written, and gone if it does not take its name.
pub(super) struct Temporary<'f> {
    folder: &'f OwnedFd,
    name: String,
    /// Locked: closing it gives that back.
    file: File,
}

impl<'f> Temporary<'f> {
    /// Makes one with these rights, or with those that the process gives to files that it makes (its umask).
    pub(super) fn new(folder: &'f OwnedFd, content: &[u8], bits: Option<u32>) -> io::Result<Self> {
        let mut this = loop {
            let name = format!("{TEMPORARY}{:016x}", getrandom::u64().map_err(io::Error::other)?);
            let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC | OFlags::NOFOLLOW;
            let first = bits.map_or(FILE_BITS, |_| OWNER_ONLY);
            let file = File::from(rustix::fs::openat(folder, &name, flags, first.into())?);
            file.lock()?;
            // Whoever clears up may have come between the making and the locking.
            if rustix::fs::fstat(&file)?.st_nlink > 0 {
                break Self { folder, name, file };
            }
        };
        this.file.write_all(content)?;
        if let Some(bits) = bits {
            rustix::fs::fchmod(&this.file, bits.into())?;
        }
        this.file.sync_all()?;
        Ok(this)
    }

    /// Gives the file its name.
    pub(super) fn take_name(mut self, folder: &OwnedFd, name: &Path) -> Result<(), (Errno, Self)> {
        match rustix::fs::renameat(self.folder, &self.name, folder, name) {
            Ok(()) => {
                self.name.clear();
                Ok(())
            }
            Err(error) => Err((error, self)),
        }
    }

    /// Gives the file a name in its folder that nobody has.
    pub(super) fn take_free_name(self, name: &Path) -> Result<(), Errno> {
        // A second name for the same file, which the system gives only if it is free.
        rustix::fs::linkat(self.folder, &self.name, self.folder, name, AtFlags::empty())
    }
}

impl Drop for Temporary<'_> {
    fn drop(&mut self) {
        if !self.name.is_empty() {
            // What stays is cleared away by whoever writes there next.
            let _ = rustix::fs::unlinkat(self.folder, &self.name, AtFlags::empty());
        }
    }
}

/// Removes the temporary files in a folder that nobody holds.
pub(super) fn clear(folder: &OwnedFd) {
    let Ok(entries) = Dir::read_from(folder) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name();
        if !name.to_bytes().starts_with(TEMPORARY.as_bytes()) {
            continue;
        }
        let flags = READ | OFlags::NOFOLLOW;
        let Ok(fd) = rustix::fs::openat(folder, name, flags, no_bits()) else { continue };
        let is_file = rustix::fs::fstat(&fd)
            .is_ok_and(|about| FileType::from_raw_mode(about.st_mode) == FileType::RegularFile);
        let file = File::from(fd);
        if is_file && !matches!(file.try_lock(), Err(TryLockError::WouldBlock)) {
            let _ = rustix::fs::unlinkat(folder, name, AtFlags::empty());
        }
    }
}
