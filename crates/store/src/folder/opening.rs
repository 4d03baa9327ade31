//! How files and folders are opened, and which rights new ones get.

use rustix::fs::OFlags;

/// Bits of a folder that is made.
pub(super) const FOLDER_BITS: u32 = 0o777;

/// The rights of new files, before the umask takes from them.
pub(super) const FILE_BITS: u32 = 0o666;

/// The rights of files with secrets.
pub(super) const OWNER_ONLY: u32 = 0o600;

/// How files are opened to be read: a pipe or a device must not hold us up.
pub(super) const READ: OFlags =
    OFlags::RDONLY.union(OFlags::CLOEXEC).union(OFlags::NONBLOCK).union(OFlags::NOCTTY);

/// How folders are opened.
pub(super) const FOLDER: OFlags = OFlags::RDONLY.union(OFlags::CLOEXEC).union(OFlags::DIRECTORY);

/// The rights that are asked for where nothing is made.
pub(super) fn no_bits() -> rustix::fs::Mode {
    rustix::fs::Mode::empty()
}
