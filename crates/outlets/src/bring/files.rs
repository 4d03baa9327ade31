//! Bringing files to a folder.

use std::io;
use std::path::Path;

use cledger_store::{Folder, Links, Mode, WriteError};

use super::load::NewFile;
use crate::failure::NotBrought;
use crate::file::FileError;
use crate::held::{Held, UnitFiles};
use crate::read_back::files;

/// Writes files and takes others away, if the folder holds what was seen there.
pub(super) fn bring(
    root: &Path,
    asked: &UnitFiles,
    (files, gone): (&[NewFile], &[String]),
    seen: &Held,
) -> Result<(), NotBrought> {
    let paths: Vec<String> = match seen {
        Held::Files(seen) => seen.files.keys().cloned().collect(),
        _ => files.iter().map(|file| file.path.clone()).collect(),
    };
    if !same(&self::files(root, &UnitFiles { paths, all: false, ..asked.clone() }), seen) {
        return Err(NotBrought::ChangedMeanwhile);
    }
    let base = root.join(&asked.base);
    let failed = |error: WriteError| NotBrought::Failed(error.to_string());
    let folder = unit_folder(&base, asked).map_err(|error| failed(WriteError::new(base.clone(), error)))?;
    let (folder, below) = (&folder.0, &folder.1);
    let mut done = Vec::new();
    for file in files {
        let mode = match file.mode {
            Some(bits) => Mode::Bits(bits),
            None if file.secret => Mode::OwnerOnly,
            None => Mode::AsBefore,
        };
        let path = below.join(&file.path);
        if let Err(error) = folder.write(&path, file.text.as_bytes(), mode) {
            let error = WriteError::new(folder.path().join(path), error);
            return Err(stopped(error.to_string(), &done));
        }
        done.push(file.path.as_str());
    }
    for path in gone {
        let file = below.join(path);
        match folder.remove(&file) {
            Ok(true) => {
                done.push(path);
                remove_empty(folder, below, &file);
            }
            Ok(false) => {}
            Err(error) => {
                let reason = format!("`{path}` cannot be taken away: {error}");
                return Err(stopped(reason, &done));
            }
        }
    }
    Ok(())
}

/// The folder that is written to, held open, and what leads on from there. Where links are followed, that is
/// the unit's own folder, wherever it is.
fn unit_folder(base: &Path, asked: &UnitFiles) -> io::Result<(Folder, std::path::PathBuf)> {
    match asked.links {
        Links::Followed => Ok((Folder::make(&base.join(&asked.below))?, std::path::PathBuf::new())),
        Links::Refused | Links::Inside => Ok((Folder::make(base)?, asked.below.clone())),
    }
}

/// Takes the folders away that are empty now, the unit's own too: what is left in others is not ours.
fn remove_empty(folder: &Folder, below: &Path, file: &Path) {
    let within = file.ancestors().skip(1).take_while(|above| above.starts_with(below));
    for above in within.filter(|above| !above.as_os_str().is_empty()) {
        if !folder.remove_empty(above) {
            return;
        }
    }
}

/// What it came to where it went no further.
fn stopped(reason: String, done: &[&str]) -> NotBrought {
    if done.is_empty() {
        return NotBrought::Failed(reason);
    }
    NotBrought::InPart(format!("{reason}; done before that: {}", done.join(", ")))
}

fn same(there: &Held, seen: &Held) -> bool {
    match (there, seen) {
        (Held::Files(there), Held::Files(seen)) => {
            let (there, seen) = (&there.files, &seen.files);
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
