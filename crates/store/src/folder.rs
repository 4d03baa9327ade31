//! Folders, and the files in them, opened so that nothing can hang and no link leads astray.
//!
//! A [`Folder`] is held open. What is read, written or removed in it is found from there by plain relative
//! paths, a part at a time without following links (on Linux in one call, `openat2`), so that nobody can
//! swap a part for a link between the look and the deed. Only regular files are read, up to a size that
//! whoever reads names: a pipe, a device or a socket is told, and never waited for.

mod error;
mod opening;
mod temporary;
mod writing;

use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, Read as _};
use std::os::fd::OwnedFd;
use std::path::{Component, Path, PathBuf};
use std::sync::Mutex;

use rustix::buffer::spare_capacity;
use rustix::fs::{AtFlags, CWD, Dir, FileType, OFlags, Stat};
use rustix::io::Errno;

use self::error::MOST_NAMES;
use self::opening::{FOLDER, READ, no_bits};
use self::temporary::clear;

pub use self::error::FileError;

/// What becomes of links below a folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Links {
    /// They are refused.
    Refused,
    /// They are followed as long as what they lead to is in the folder, too.
    Inside,
    /// They are followed, wherever they lead.
    Followed,
}

/// A folder that is held open.
#[derive(Debug)]
pub struct Folder {
    path: PathBuf,
    fd: OwnedFd,
    /// Folders below in which nothing is left from somebody who was interrupted.
    cleared: Mutex<BTreeSet<PathBuf>>,
}

impl Folder {
    /// Opens a folder that somebody named; links on the way there are theirs, and followed.
    pub fn open(path: &Path) -> io::Result<Self> {
        let fd = rustix::fs::openat(CWD, path, FOLDER, no_bits())?;
        Ok(Self { path: path.to_owned(), fd, cleared: Mutex::default() })
    }

    /// The same, and makes the folder where it is not there.
    pub fn make(path: &Path) -> io::Result<Self> {
        std::fs::create_dir_all(path)?;
        Self::open(path)
    }

    /// The path that it was opened by.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// A folder below, which must be there and no link.
    pub fn below(&self, relative: &Path) -> io::Result<Self> {
        let fd = self.at(relative, FOLDER, no_bits())?;
        Ok(Self { path: self.path.join(relative), fd, cleared: Mutex::default() })
    }

    /// What the system says of something below, which may itself be a link.
    pub fn about_entry(&self, relative: &Path) -> io::Result<Stat> {
        let (folder, name) = self.parent(relative)?;
        Ok(rustix::fs::statat(&folder, name, AtFlags::SYMLINK_NOFOLLOW)?)
    }

    /// Opens something below without following links.
    fn at(&self, relative: &Path, flags: OFlags, bits: rustix::fs::Mode) -> Result<OwnedFd, Errno> {
        let parts = parts(relative)?;
        #[cfg(target_os = "linux")]
        {
            use rustix::fs::{ResolveFlags, openat2};
            let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
            let path = if parts.is_empty() { Path::new(".") } else { relative };
            match openat2(&self.fd, path, flags, bits, resolve) {
                // An old kernel, or a sandbox that does not know the call.
                Err(Errno::NOSYS | Errno::PERM) => {}
                opened => return opened,
            }
        }
        let mut folder = rustix::fs::openat(&self.fd, ".", FOLDER, no_bits())?;
        let Some((last, above)) = parts.split_last() else { return Ok(folder) };
        for part in above {
            folder = rustix::fs::openat(&folder, *part, FOLDER | OFlags::NOFOLLOW, no_bits())
                .map_err(|error| link_or(error, &folder, part))?;
        }
        rustix::fs::openat(&folder, *last, flags | OFlags::NOFOLLOW, bits)
    }

    /// Opens a file below for reading.
    fn open_file(&self, relative: &Path, links: Links) -> Result<(File, Stat), FileError> {
        let fd = match links {
            Links::Followed => {
                parts(relative)?;
                rustix::fs::openat(&self.fd, relative, READ, no_bits())?
            }
            Links::Refused => self.at(relative, READ, no_bits())?,
            Links::Inside => match self.at(relative, READ, no_bits()) {
                Err(Errno::LOOP) => self.at(&self.inside(relative)?, READ, no_bits())?,
                opened => opened?,
            },
        };
        let about = rustix::fs::fstat(&fd)?;
        match FileType::from_raw_mode(about.st_mode) {
            FileType::RegularFile => Ok((File::from(fd), about)),
            FileType::Directory => Err(FileError::Folder),
            _ => Err(FileError::Special),
        }
    }

    /// Where a path below leads to, links followed, as long as that is in the folder.
    fn inside(&self, relative: &Path) -> Result<PathBuf, FileError> {
        let top = self.path.canonicalize()?;
        let real = self.path.join(relative).canonicalize()?;
        real.strip_prefix(&top).map(Path::to_owned).map_err(|_| FileError::LeadsOut)
    }

    /// The bytes of a file below, at most so many.
    pub fn read(&self, relative: &Path, most: u64, links: Links) -> Result<Vec<u8>, FileError> {
        let (file, about) = self.open_file(relative, links)?;
        read_open(file, &about, most)
    }

    /// The first bytes of a file below, so many or fewer.
    pub(crate) fn head(&self, relative: &Path, count: u64, links: Links) -> Result<Vec<u8>, FileError> {
        let (file, _) = self.open_file(relative, links)?;
        let mut bytes = Vec::new();
        file.take(count).read_to_end(&mut bytes)?;
        Ok(bytes)
    }

    /// The bytes of a file below, at most so many, and its permission bits (`chmod(2)`).
    pub fn read_with_mode(
        &self,
        relative: &Path,
        most: u64,
        links: Links,
    ) -> Result<(Vec<u8>, u32), FileError> {
        let (file, about) = self.open_file(relative, links)?;
        let bits = about.st_mode & 0o7777;
        Ok((read_open(file, &about, most)?, bits))
    }

    /// The text of a file below, at most so many bytes; `None` if there is no such file.
    pub fn text(&self, relative: &Path, most: u64, links: Links) -> Result<Option<String>, FileError> {
        match self.read(relative, most, links) {
            Ok(bytes) => as_text(bytes).map(Some),
            Err(error) if error.is_not_there() => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// The names in a folder below, sorted; `None` if there is no such folder or it is not one.
    pub fn names(&self, relative: &Path, links: Links) -> Result<Option<Vec<String>>, FileError> {
        let fd = match self.open_folder(relative, links) {
            Ok(fd) => fd,
            Err(error) if error.is_not_there() => return Ok(None),
            Err(error) => return Err(error),
        };
        let mut names = Vec::new();
        for entry in Dir::read_from(&fd)? {
            let name = entry?.file_name().to_string_lossy().into_owned();
            if name == "." || name == ".." {
                continue;
            }
            if names.len() == MOST_NAMES {
                return Err(FileError::TooMany);
            }
            names.push(name);
        }
        names.sort_unstable();
        Ok(Some(names))
    }

    /// Whether there is such a folder below.
    pub fn is_folder(&self, relative: &Path, links: Links) -> bool {
        self.open_folder(relative, links).is_ok()
    }

    fn open_folder(&self, relative: &Path, links: Links) -> Result<OwnedFd, FileError> {
        Ok(match links {
            Links::Followed => {
                parts(relative)?;
                rustix::fs::openat(&self.fd, relative, FOLDER, no_bits())?
            }
            Links::Refused => self.at(relative, FOLDER, no_bits())?,
            Links::Inside => match self.at(relative, FOLDER, no_bits()) {
                // A link as the last part is told either way.
                Err(Errno::LOOP | Errno::NOTDIR) => self.at(&self.inside(relative)?, FOLDER, no_bits())?,
                opened => opened?,
            },
        })
    }

    /// The folder that something below is in, held open, and its name there.
    fn parent<'p>(&self, relative: &'p Path) -> Result<(OwnedFd, &'p Path), Errno> {
        let name = relative.file_name().ok_or(Errno::INVAL)?;
        let above = relative.parent().unwrap_or(Path::new(""));
        Ok((self.at(above, FOLDER, no_bits())?, Path::new(name)))
    }

    /// Opens a file below to lock it, and makes it where it is not there.
    pub(crate) fn lockable(&self, relative: &Path) -> Result<File, FileError> {
        self.make_above(relative)?;
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::CLOEXEC | OFlags::NONBLOCK | OFlags::NOCTTY;
        let fd = self.at(relative, flags, 0o600.into())?;
        match FileType::from_raw_mode(rustix::fs::fstat(&fd)?.st_mode) {
            FileType::RegularFile => Ok(File::from(fd)),
            _ => Err(FileError::Special),
        }
    }

    /// Removes temporary files that somebody who was interrupted left right here.
    pub(crate) fn clear(&self) {
        clear(&self.fd);
    }
}

/// The parts of a plain relative path.
fn parts(relative: &Path) -> Result<Vec<&Path>, Errno> {
    relative
        .components()
        .map(|part| match part {
            Component::Normal(name) => Ok(Path::new(name)),
            _ => Err(Errno::INVAL),
        })
        .collect()
}

/// A link on the way is told as one: the system may say only that it is no folder.
fn link_or(error: Errno, folder: &OwnedFd, part: &Path) -> Errno {
    let about = rustix::fs::statat(folder, part, AtFlags::SYMLINK_NOFOLLOW);
    let is_link = about.is_ok_and(|about| FileType::from_raw_mode(about.st_mode) == FileType::Symlink);
    if is_link { Errno::LOOP } else { error }
}

/// All of an open regular file, if that is not more than so much.
fn read_open(file: File, about: &Stat, most: u64) -> Result<Vec<u8>, FileError> {
    let size = u64::try_from(about.st_size).unwrap_or(0);
    if size > most {
        return Err(FileError::TooLarge(most));
    }
    let mut bytes = Vec::with_capacity(usize::try_from(size).unwrap_or(0) + 1);
    // One more byte is asked for than there should be: whoever gets all and no more has read it to its end at once.
    let count = rustix::io::retry_on_intr(|| rustix::io::read(&file, spare_capacity(&mut bytes)))?;
    if count as u64 == size && size > 0 {
        return Ok(bytes);
    }
    // It has grown or shrunk meanwhile, or is a file of the system without a size.
    file.take((most + 1).saturating_sub(count as u64)).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > most { Err(FileError::TooLarge(most)) } else { Ok(bytes) }
}

/// The text that these bytes are.
pub(crate) fn as_text(bytes: Vec<u8>) -> Result<String, FileError> {
    String::from_utf8(bytes).map_err(|error| {
        let good = &error.as_bytes()[..error.utf8_error().valid_up_to()];
        FileError::NotUtf8(memchr::memchr_iter(b'\n', good).count() + 1)
    })
}

/// The bytes of a regular file that somebody named, at most so many. Links on the way are theirs.
pub fn read_named(path: &Path, most: u64) -> Result<Vec<u8>, FileError> {
    let fd = rustix::fs::openat(CWD, path, READ, no_bits()).map_err(io::Error::from)?;
    let about = rustix::fs::fstat(&fd)?;
    match FileType::from_raw_mode(about.st_mode) {
        FileType::RegularFile => read_open(File::from(fd), &about, most),
        FileType::Directory => Err(FileError::Folder),
        _ => Err(FileError::Special),
    }
}

/// The text of a regular file that somebody named, at most so many bytes.
pub fn text_named(path: &Path, most: u64) -> Result<String, FileError> {
    as_text(read_named(path, most)?)
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::{PermissionsExt as _, symlink};
    use std::os::unix::net::UnixListener;

    use super::*;
    use crate::mode::{Mode, Written};

    fn folder() -> (tempfile::TempDir, Folder) {
        let kept = tempfile::tempdir().unwrap();
        let folder = Folder::open(kept.path()).unwrap();
        (kept, folder)
    }

    #[test]
    fn only_regular_files_of_a_bounded_size_are_read() {
        let (kept, folder) = folder();
        let here = kept.path();
        fs::write(here.join("small"), "tide").unwrap();
        fs::create_dir(here.join("dir")).unwrap();
        let _socket = UnixListener::bind(here.join("socket")).unwrap();
        rustix::fs::mknodat(CWD, here.join("pipe"), FileType::Fifo, 0o600.into(), 0).unwrap();
        symlink("small", here.join("inside")).unwrap();
        symlink("/etc/passwd", here.join("outside")).unwrap();
        symlink("/dev/zero", here.join("endless")).unwrap();
        symlink("loop", here.join("loop")).unwrap();
        let read = |name: &str, links| folder.read(Path::new(name), 4, links).map_err(|e| e.to_string());
        let no_link = "it is a link, or reached through one, and links are not followed here";
        let special = "it is no regular file";
        for (name, refused, inside) in [
            ("small", Ok(b"tide".to_vec()), Ok(b"tide".to_vec())),
            ("inside", Err(no_link), Ok(b"tide".to_vec())),
            ("outside", Err(no_link), Err("it is a link that leads out of the folder")),
            ("endless", Err(no_link), Err("it is a link that leads out of the folder")),
            ("dir", Err("it is a folder, and a file is needed"), Err("it is a folder, and a file is needed")),
            ("pipe", Err(special), Err(special)),
        ] {
            assert_eq!(read(name, Links::Refused), refused.map_err(str::to_owned), "{name}");
            assert_eq!(read(name, Links::Inside), inside.map_err(str::to_owned), "{name}");
        }
        for name in ["../x", "/etc/passwd", "socket", "loop"] {
            assert!(read(name, Links::Refused).is_err() && read(name, Links::Inside).is_err(), "{name}");
        }
        let large = folder.read(Path::new("small"), 3, Links::Refused);
        assert!(matches!(large, Err(FileError::TooLarge(3))));
        assert!(matches!(read_named(&here.join("endless"), 9), Err(FileError::Special)));
    }

    #[test]
    fn nothing_is_written_through_a_link() {
        let (kept, folder) = folder();
        let elsewhere = tempfile::tempdir().unwrap();
        symlink(elsewhere.path(), kept.path().join("out")).unwrap();
        fs::write(elsewhere.path().join("target"), "theirs").unwrap();
        symlink(elsewhere.path().join("target"), kept.path().join("file")).unwrap();
        for path in ["out/x", "out/y/z", "file"] {
            assert!(folder.write(Path::new(path), b"ours", Mode::Usual).is_err(), "{path}");
        }
        assert!(!folder.remove(Path::new("out/target")).unwrap_or(false));
        assert_eq!(fs::read_to_string(elsewhere.path().join("target")).unwrap(), "theirs");
        assert_eq!(fs::read_dir(elsewhere.path()).unwrap().count(), 1);
    }

    #[test]
    fn a_file_is_written_once_and_then_left_alone() {
        let (kept, folder) = folder();
        let path = Path::new("a/b.env");
        let write = |content: &str, mode| folder.write(path, content.as_bytes(), mode).unwrap();
        let full = kept.path().join(path);
        let bits = || fs::metadata(&full).unwrap().permissions().mode() & 0o777;
        assert_eq!(write("x", Mode::Usual), Written::New);
        let stamp = fs::metadata(&full).unwrap().modified().unwrap();
        assert_eq!(write("x", Mode::Usual), Written::Unchanged);
        assert_eq!((fs::metadata(&full).unwrap().modified().unwrap(), bits()), (stamp, 0o644));
        assert_eq!(write("x", Mode::OwnerOnly), Written::Changed);
        assert_eq!(bits(), 0o600);
        assert_eq!(write("y", Mode::AsBefore), Written::Changed);
        assert_eq!((fs::read_to_string(&full).unwrap(), bits()), ("y".to_owned(), 0o600));
        assert_eq!(fs::read_dir(full.parent().unwrap()).unwrap().count(), 1);
    }

    #[test]
    fn many_files_are_written_and_what_cannot_be_is_told() {
        let (kept, folder) = folder();
        let paths: Vec<PathBuf> = (0..100).map(|at| format!("{}/{at}.toml", at % 3).into()).collect();
        let files = |text: &'static [u8]| paths.iter().map(|path| (path.as_path(), text)).collect::<Vec<_>>();
        let there = || paths.iter().map(|path| fs::read_to_string(kept.path().join(path)).unwrap());
        folder.write_many(None, &files(b"ours"), Mode::OwnerOnly).unwrap();
        assert!(there().all(|text| text == "ours"));
        fs::remove_file(kept.path().join("1/40.toml")).unwrap();
        symlink("0.toml", kept.path().join("1/40.toml")).unwrap();
        let error = folder.write_many(None, &files(b"new"), Mode::AsBefore).unwrap_err().to_string();
        assert!(error.contains("1/40.toml` cannot be written: it is a link"), "{error}");
        assert_eq!(fs::read_link(kept.path().join("1/40.toml")).unwrap(), Path::new("0.toml"));
        fs::remove_file(kept.path().join("1/40.toml")).unwrap();
        folder.write_many(None, &files(b"new"), Mode::AsBefore).unwrap();
        assert!(there().all(|text| text == "new"));
        assert_eq!(fs::read_dir(kept.path().join("1")).unwrap().count(), 33, "nothing temporary is left");
        folder.write_many(None, &[], Mode::AsBefore).unwrap();
    }

    #[test]
    fn what_a_kill_left_is_cleared_unless_somebody_holds_it() {
        let (kept, folder) = folder();
        let path = |name: &str| kept.path().join(name);
        fs::write(path(".cledger-left"), "secret").unwrap();
        let held = File::create(path(".cledger-held")).unwrap();
        held.lock().unwrap();
        folder.write(Path::new("x"), b"x", Mode::Usual).unwrap();
        assert!(!path(".cledger-left").exists() && path(".cledger-held").exists());
    }

    #[test]
    fn a_new_file_never_replaces_one() {
        let (kept, folder) = folder();
        let write = |text: &str| folder.write_new(Path::new("d/identity"), text.as_bytes()).unwrap();
        assert_eq!((write("one"), write("two")), (Written::New, Written::Unchanged));
        assert_eq!(fs::read_to_string(kept.path().join("d/identity")).unwrap(), "one");
        assert_eq!(fs::read_dir(kept.path().join("d")).unwrap().count(), 1);
    }
}
