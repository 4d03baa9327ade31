//! Writing and removing files below a folder.

use std::collections::BTreeSet;
use std::fs;
use std::io::{self, Read as _};
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::PoisonError;

use rayon::ThreadPoolBuilder;
use rayon::prelude::*;
use rustix::fs::{AtFlags, Stat};
use rustix::io::Errno;

use super::opening::{FOLDER, FOLDER_BITS, OWNER_ONLY, no_bits};
use super::temporary::{Temporary, clear};
use super::{FileError, Folder, Links};
use crate::mode::{Mode, Written};
use crate::write::WriteError;

/// How many files are written at once.
const AT_ONCE: usize = 16;

/// A file's path and what it is to hold.
pub(crate) type File<'f> = (&'f Path, &'f [u8]);

impl Folder {
    /// Makes the folders on the way to something below, where they are missing.
    pub(super) fn make_above(&self, relative: &Path) -> Result<(), Errno> {
        let mut above: Vec<&Path> = relative.ancestors().skip(1).collect();
        above.reverse();
        for folder in above.into_iter().filter(|folder| !folder.as_os_str().is_empty()) {
            let (parent, name) = self.parent(folder)?;
            match rustix::fs::mkdirat(&parent, name, FOLDER_BITS.into()) {
                Ok(()) | Err(Errno::EXIST) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// Writes a file below, and the folders above it where they are missing, by way of a temporary file that
    /// is flushed to disk and then takes its name. Links are refused, at its name too.
    pub fn write(&self, relative: &Path, content: &[u8], mode: Mode) -> io::Result<Written> {
        let (written, folder) = self.put(None, relative, content, mode)?;
        if written != Written::Unchanged {
            rustix::fs::fsync(&folder)?;
        }
        Ok(written)
    }

    /// The same with many files, several at once, since most of the time is spent waiting for the disk. The folders that
    /// they are in are flushed once, after all of them. Where one cannot be written, others may be. Temporary files
    /// are made in another folder if a way is given, where whoever comes next clears them away.
    pub(crate) fn write_many(
        &self,
        way: Option<&Folder>,
        files: &[File<'_>],
        mode: Mode,
    ) -> Result<(), WriteError> {
        let wrong = |relative: &Path, source| WriteError::new(self.path.join(relative), source);
        let one = |(relative, content): &File<'_>| {
            self.put(way, relative, content, mode).map(drop).map_err(|source| wrong(relative, source))
        };
        let threads = || ThreadPoolBuilder::new().num_threads(AT_ONCE.min(files.len())).build().ok();
        let done: Vec<_> = match (files.len() > 1).then(threads).flatten() {
            Some(threads) => threads.install(|| files.par_iter().map(one).collect()),
            None => files.iter().map(one).collect(),
        };
        done.into_iter().collect::<Result<(), _>>()?;
        let folders: BTreeSet<&Path> = files.iter().filter_map(|(relative, _)| relative.parent()).collect();
        for folder in folders {
            let flush = || -> io::Result<()> { Ok(rustix::fs::fsync(&self.at(folder, FOLDER, no_bits())?)?) };
            flush().map_err(|source| wrong(folder, source))?;
        }
        Ok(())
    }

    /// Writes a file, but for flushing the folder that it is in, which comes with what was done.
    fn put(
        &self,
        way: Option<&Folder>,
        relative: &Path,
        content: &[u8],
        mode: Mode,
    ) -> io::Result<(Written, OwnedFd)> {
        self.make_above(relative)?;
        let (folder, name) = self.parent(relative)?;
        let before = match self.open_file(relative, Links::Refused) {
            Ok((file, about)) => Some((file, about)),
            Err(error) if error.is_not_there() => None,
            Err(FileError::Io(error)) => return Err(error),
            Err(other) => return Err(io::Error::other(other.to_string())),
        };
        let bits = before.as_ref().map(|(_, about)| about.st_mode);
        let is_new = before.is_none();
        if let Some((file, about)) = before
            && is_same(file, &about, content)?
            && match mode {
                Mode::OwnerOnly => is_for_its_owner_alone(about.st_mode),
                Mode::Bits(bits) => about.st_mode & 0o7777 == bits & 0o7777,
                Mode::Usual | Mode::AsBefore => true,
            }
        {
            return Ok((Written::Unchanged, folder));
        }
        let bits = match (mode, bits) {
            (Mode::OwnerOnly, _) => Some(OWNER_ONLY),
            (Mode::AsBefore, Some(bits)) | (Mode::Bits(bits), _) => Some(bits & 0o7777),
            (Mode::Usual | Mode::AsBefore, _) => None,
        };
        let here = || {
            self.clear_once(relative.parent().unwrap_or(Path::new("")), &folder);
            Temporary::new(&folder, content, bits)
        };
        let temporary = match way {
            Some(way) => Temporary::new(&way.fd, content, bits)?,
            None => here()?,
        };
        match temporary.take_name(&folder, name) {
            // The file is on another disk than the folder.
            Err((Errno::XDEV, temporary)) => {
                drop(temporary);
                here()?.take_name(&folder, name).map_err(|(error, _)| error)?;
            }
            taken => taken.map_err(|(error, _)| error)?,
        }
        Ok((if is_new { Written::New } else { Written::Changed }, folder))
    }

    /// Writes a file below that is not there yet, all of it or none; says whether it was there.
    pub fn write_new(&self, relative: &Path, content: &[u8]) -> io::Result<Written> {
        self.make_above(relative)?;
        let (folder, name) = self.parent(relative)?;
        self.clear_once(relative.parent().unwrap_or(Path::new("")), &folder);
        let temporary = Temporary::new(&folder, content, Some(OWNER_ONLY))?;
        match temporary.take_free_name(name) {
            Ok(()) => {
                rustix::fs::fsync(&folder)?;
                Ok(Written::New)
            }
            Err(Errno::EXIST) => Ok(Written::Unchanged),
            Err(error) => Err(error.into()),
        }
    }

    /// Removes a file below; says whether it was there.
    pub fn remove(&self, relative: &Path) -> io::Result<bool> {
        let (folder, name) = match self.parent(relative) {
            Err(Errno::NOENT | Errno::NOTDIR) => return Ok(false),
            found => found?,
        };
        match rustix::fs::unlinkat(&folder, name, AtFlags::empty()) {
            Ok(()) => Ok(true),
            Err(Errno::NOENT) => Ok(false),
            Err(error) => Err(error.into()),
        }
    }

    /// Removes a folder below, if it is there and empty; says whether it did.
    pub fn remove_empty(&self, relative: &Path) -> bool {
        let removed =
            |(folder, name): (OwnedFd, &Path)| rustix::fs::unlinkat(&folder, name, AtFlags::REMOVEDIR);
        self.parent(relative).and_then(removed).is_ok()
    }

    fn clear_once(&self, relative: &Path, folder: &OwnedFd) {
        let mut cleared = self.cleared.lock().unwrap_or_else(PoisonError::into_inner);
        if cleared.insert(relative.to_owned()) {
            clear(folder);
        }
    }
}

/// Whether the six bits of a mode that are the group's and all others' are off.
fn is_for_its_owner_alone(mode: u32) -> bool {
    mode.trailing_zeros() >= 6
}

fn is_same(mut file: fs::File, about: &Stat, content: &[u8]) -> io::Result<bool> {
    if u64::try_from(about.st_size).ok() != Some(content.len() as u64) {
        return Ok(false);
    }
    let mut bytes = zeroize::Zeroizing::new(Vec::with_capacity(content.len() + 1));
    file.read_to_end(&mut bytes)?;
    Ok(**bytes == *content)
}
