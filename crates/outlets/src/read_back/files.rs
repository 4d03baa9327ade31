//! Reading back files and processes of this machine.

use std::fs;
use std::io::ErrorKind;
use std::path::Path;

use super::{Asked, Held, Listing, Source, Teller, process};
use crate::file;

/// Tells what a source on this machine holds.
pub(super) fn tell(root: &Path, source: &Source, teller: &Teller<'_>) {
    if let Some(Listing::Folders(folder)) = &source.listing {
        let listens = match folders(&root.join(folder)) {
            Ok(folders) => teller.names(folders),
            Err(error) => {
                return teller.trouble(match error.kind() {
                    ErrorKind::NotFound => format!("`{}` is not there", folder.display()),
                    _ => format!("`{}` cannot be read: {error}", folder.display()),
                });
            }
        };
        if !listens {
            return;
        }
    }
    for (unit, asked) in &source.asked {
        let held = match asked {
            Asked::Files(folder, files) => self::files(&root.join(folder), files),
            Asked::Environment(pid_file) => process::environment(root, pid_file),
            Asked::Document(_) | Asked::Rows(_) => Held::NotThere,
        };
        if !teller.unit(unit, held) {
            return;
        }
    }
}

/// The names of the folders in one, through links too: deliveries often switch one.
fn folders(folder: &Path) -> std::io::Result<Vec<String>> {
    let mut names = Vec::new();
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        if entry.path().is_dir() {
            names.push(entry.file_name().to_string_lossy().into_owned());
        }
    }
    names.sort_unstable();
    Ok(names)
}

/// What these files of a unit's folder hold.
pub(crate) fn files(folder: &Path, files: &[String]) -> Held {
    if !folder.is_dir() {
        return Held::NotThere;
    }
    Held::Files(files.iter().map(|path| (path.clone(), file::text(&folder.join(path)))).collect())
}
