//! Bringing files to a folder.

use std::fs;
use std::io;
use std::path::Path;

use cledger_store::{Mode, write_atomically};

use super::{NewFile, NotBrought};
use crate::file::FileError;
use crate::read_back::{Held, files};

/// Writes files and takes others away, if the folder holds what was seen there.
pub(super) fn bring(
    folder: &Path,
    (files, gone): (&[NewFile], &[String]),
    seen: &Held,
) -> Result<(), NotBrought> {
    let paths: Vec<String> = match seen {
        Held::Files(seen) => seen.keys().cloned().collect(),
        _ => files.iter().map(|file| file.path.clone()).collect(),
    };
    if !same(&self::files(folder, &paths), seen) {
        return Err(NotBrought::ChangedMeanwhile);
    }
    let mut done = Vec::new();
    for file in files {
        let mode = if file.secret { Mode::OwnerOnly } else { Mode::AsBefore };
        if let Err(error) = write_atomically(&folder.join(&file.path), file.text.as_bytes(), mode) {
            return Err(NotBrought::Failed(with_done(error.to_string(), &done)));
        }
        done.push(file.path.as_str());
    }
    for path in gone {
        let file = folder.join(path);
        match fs::remove_file(&file) {
            Ok(()) => {
                done.push(path);
                remove_empty(folder, &file);
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => {
                let reason = format!("`{path}` cannot be taken away: {error}");
                return Err(NotBrought::Failed(with_done(reason, &done)));
            }
        }
    }
    Ok(())
}

/// Takes the folders away that are empty now, the unit's own too: what is left in others is not ours.
fn remove_empty(folder: &Path, file: &Path) {
    let within = file.ancestors().skip(1).take_while(|above| above.starts_with(folder));
    for above in within {
        if fs::remove_dir(above).is_err() {
            return;
        }
    }
}

fn with_done(reason: String, done: &[&str]) -> String {
    if done.is_empty() { reason } else { format!("{reason}; done before that: {}", done.join(", ")) }
}

fn same(there: &Held, seen: &Held) -> bool {
    match (there, seen) {
        (Held::Files(there), Held::Files(seen)) => {
            there.len() == seen.len()
                && there.iter().zip(seen).all(|(there, seen)| there.0 == seen.0 && same_file(there.1, seen.1))
        }
        (Held::NotThere, Held::NotThere) => true,
        _ => false,
    }
}

fn same_file<T: PartialEq>(there: &Result<T, FileError>, seen: &Result<T, FileError>) -> bool {
    match (there, seen) {
        (Ok(there), Ok(seen)) => there == seen,
        (Err(there), Err(seen)) => there.to_string() == seen.to_string(),
        _ => false,
    }
}
