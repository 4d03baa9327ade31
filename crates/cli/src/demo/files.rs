//! The demo's files.

use std::path::Path;

use cledger_store::{Mode, write_atomically};
use cledger_work::Trouble;
use include_dir::{Dir, DirEntry, include_dir};

/// The demo's files: `ledger`, `strongroom`, `live`, `boards`, `legacy`, `exports`, and `partner` with `partner-live`.
static FILES: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo");

/// Writes them into a folder that is not there yet.
pub(crate) fn write(dir: &Path) -> Result<(), Trouble> {
    write_folder(&FILES, dir)
}

fn write_folder(folder: &Dir<'_>, to: &Path) -> Result<(), Trouble> {
    for entry in folder.entries() {
        let path = to.join(entry.path());
        match entry {
            DirEntry::Dir(folder) => write_folder(folder, to)?,
            DirEntry::File(file) => {
                // Nothing in the demo is a real secret, but its files set the example.
                let secret = entry.path().starts_with("strongroom");
                let mode = if secret { Mode::OwnerOnly } else { Mode::Usual };
                write_atomically(&path, file.contents(), mode)?;
            }
        }
    }
    Ok(())
}
