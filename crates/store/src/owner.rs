//! Whose files are taken for one's own.

use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

/// Users whose folders are as good as one's own: oneself and root; for root, in a container or by `sudo`,
/// also whoever called it and whoever the repository around the current folder belongs to.
pub(crate) fn is_ours(owner: u32, here: &Path) -> bool {
    let me = rustix::process::geteuid().as_raw();
    owner == me || owner == 0 || me == 0 && (Some(owner) == by_sudo() || Some(owner) == of_repository(here))
}

fn by_sudo() -> Option<u32> {
    std::env::var("SUDO_UID").ok()?.parse().ok()
}

fn of_repository(here: &Path) -> Option<u32> {
    let top = here.ancestors().find(|folder| folder.join(".git").symlink_metadata().is_ok())?;
    fs::metadata(top).ok().map(|about| about.uid())
}
