//! Reading back files and processes of this machine.

use std::io;
use std::path::Path;

use cledger_store::{Folder, Links};
use zeroize::Zeroizing;

use super::process;
use super::source::{Listing, Source, Teller};
use crate::file::{FileError, LARGEST};
use crate::held::{Asked, FileThere, FilesThere, Held, UnitFiles};

/// Tells what a source on this machine holds.
pub(super) fn tell(root: &Path, source: &Source, teller: &Teller<'_>) {
    if let Some(Listing::Folders(folder, links)) = &source.listing {
        let listens = match folders(&root.join(folder), *links) {
            Ok(folders) => teller.names(folders),
            Err(FileError::NotThere) => {
                return teller.trouble(format!("`{}` is not there", folder.display()));
            }
            Err(error) => {
                return teller.trouble(format!("`{}` cannot be read: {error}", folder.display()));
            }
        };
        if !listens {
            return;
        }
    }
    for (unit, asked) in &source.asked {
        let held = match asked {
            Asked::Files(files) => self::files(root, files),
            Asked::Environment(pid_file) => process::environment(root, pid_file),
            Asked::Document(_) | Asked::Rows(_) => Held::NotThere,
        };
        if !teller.unit(unit, held) {
            return;
        }
    }
}

/// The names of the folders in one.
fn folders(folder: &Path, links: Links) -> Result<Vec<String>, FileError> {
    let folder = open(folder)?;
    let names = folder.names(Path::new(""), Links::Refused)?.unwrap_or_default();
    Ok(names.into_iter().filter(|name| folder.is_folder(Path::new(name), links)).collect())
}

fn open(folder: &Path) -> Result<Folder, FileError> {
    Folder::open(folder).map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => FileError::NotThere,
        _ => FileError::Io(error),
    })
}

/// What these files of a unit's folder hold.
pub(crate) fn files(root: &Path, asked: &UnitFiles) -> Held {
    let folder = match open(&root.join(&asked.base)) {
        Ok(folder) => folder,
        Err(FileError::NotThere) => return Held::NotThere,
        Err(error) => return Held::NotKnown(format!("`{}` cannot be read: {error}", asked.base.display())),
    };
    // A link in its place is nothing of ours, and told with each file.
    if !folder.is_folder(&asked.below, asked.links) && folder.about_entry(&asked.below).is_err() {
        return Held::NotThere;
    }
    let file = |path: &String| {
        let (bytes, mode) = folder.read_with_mode(&asked.below.join(path), LARGEST as u64, asked.links)?;
        let text = String::from_utf8(bytes).map(Zeroizing::new).map_err(|_| FileError::NotText)?;
        Ok(FileThere { text, mode: Some(mode) })
    };
    let files = asked.paths.iter().map(|path| (path.clone(), file(path))).collect();
    let mut others = Vec::new();
    let all_told = !asked.all || other_files(&folder, asked, Path::new(""), &mut others);
    Held::Files(FilesThere { files, others, has_more: !all_told })
}

/// How many folders deep other files are looked for.
const DEEPEST: usize = 8;

/// How many of them are told.
const MOST: usize = 1000;

/// Why not all that is in a folder is told.
pub const NOT_ALL: &str =
    "not all of its folder is read: at most 1,000 files, in folders at most 8 deep, that may be read";

/// Adds the paths of files below that nobody asked for, and tells whether these are all.
fn other_files(folder: &Folder, asked: &UnitFiles, within: &Path, others: &mut Vec<String>) -> bool {
    let Ok(names) = folder.names(&asked.below.join(within), asked.links) else { return false };
    let mut is_all = true;
    for name in names.unwrap_or_default() {
        let path = within.join(&name);
        if others.len() == MOST {
            return false;
        }
        if folder.is_folder(&asked.below.join(&path), asked.links) {
            is_all &= path.components().count() < DEEPEST && other_files(folder, asked, &path, others);
        } else if let Some(path) = path.to_str().filter(|path| !asked.paths.iter().any(|it| it == path)) {
            others.push(path.to_owned());
        }
    }
    is_all
}
