//! Reading back what outlets hold: many at once, each within its time limit.
//!
//! Each source has a thread of its own. One that hangs is left behind when its time is over, and what it
//! has told by then counts.

use std::collections::BTreeMap;
use std::fs;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{self, Sender};
use std::thread;
use std::time::{Duration, Instant};

use crate::file::{self, FileError};

/// What is read back for one unit or instance.
#[derive(Debug, Clone)]
pub enum Asked {
    /// These files below a folder.
    Files(PathBuf, Vec<String>),
    /// The environment of the process whose number is in this file.
    Environment(PathBuf),
}

/// An outlet in a stage.
#[derive(Debug, Clone)]
pub struct Source {
    /// The folder from which all paths go; messages name them from there.
    pub root: PathBuf,
    /// What is asked of it, by unit or instance.
    pub asked: BTreeMap<String, Asked>,
    /// The folder in which every folder is a unit's, if it has one.
    pub folder: Option<PathBuf>,
    /// How long it may take.
    pub limit: Duration,
}

/// What a unit or instance has there.
#[derive(Debug)]
pub enum Held {
    /// Its files, by path.
    Files(BTreeMap<String, Result<String, FileError>>),
    /// Its environment variables, by name.
    Environment(BTreeMap<String, String>),
    /// Nothing: it is not there.
    NotThere,
    /// Nobody can tell, for this reason.
    NotKnown(String),
}

/// What an outlet holds.
#[derive(Debug, Default)]
pub struct ReadBack {
    /// By unit or instance; those that are missing were not reached in time.
    pub units: BTreeMap<String, Held>,
    /// The folders there.
    pub folders: Vec<String>,
    /// Why the outlet as a whole does not answer.
    pub trouble: Option<String>,
}

enum Told {
    Unit(String, Held),
    Folders(Vec<String>),
    Trouble(String),
}

/// Reads all sources back, in their order.
pub fn read_back(sources: &[Source]) -> Vec<ReadBack> {
    let (sender, receiver) = mpsc::channel();
    let start = Instant::now();
    for (at, source) in sources.iter().enumerate() {
        let (sender, source) = (sender.clone(), source.clone());
        thread::spawn(move || tell(at, &source, &sender));
    }
    drop(sender);
    let mut found: Vec<ReadBack> = sources.iter().map(|_| ReadBack::default()).collect();
    let longest = sources.iter().map(|source| source.limit).max().unwrap_or_default();
    let left = |limit: Duration| (start + limit).saturating_duration_since(Instant::now());
    while let Ok((at, told)) = receiver.recv_timeout(left(longest)) {
        let (back, source): (&mut ReadBack, &Source) = (&mut found[at], &sources[at]);
        // What comes after its time does not count: the answer must not hang on how slow others are.
        if left(source.limit).is_zero() {
            continue;
        }
        match told {
            Told::Unit(unit, held) => drop(back.units.insert(unit, held)),
            Told::Folders(folders) => back.folders = folders,
            Told::Trouble(reason) => back.trouble = Some(reason),
        }
    }
    found
}

fn tell(at: usize, source: &Source, sender: &Sender<(usize, Told)>) {
    // Nobody listens any more once the time is over.
    let told = |told: Told| sender.send((at, told)).is_ok();
    if let Some(folder) = &source.folder {
        let sent = match folders(&source.root.join(folder)) {
            Ok(folders) => told(Told::Folders(folders)),
            Err(error) => {
                let reason = match error.kind() {
                    ErrorKind::NotFound => format!("`{}` is not there", folder.display()),
                    _ => format!("`{}` cannot be read: {error}", folder.display()),
                };
                told(Told::Trouble(reason));
                return;
            }
        };
        if !sent {
            return;
        }
    }
    for (unit, asked) in &source.asked {
        let held = match asked {
            Asked::Files(folder, files) => self::files(&source.root.join(folder), files),
            Asked::Environment(pid_file) => environment(&source.root, pid_file),
        };
        if !told(Told::Unit(unit.clone(), held)) {
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

fn files(folder: &Path, files: &[String]) -> Held {
    if !folder.is_dir() {
        return Held::NotThere;
    }
    Held::Files(files.iter().map(|path| (path.clone(), file::text(&folder.join(path)))).collect())
}

/// The environment that a process was started with (proc(5), `/proc/PID/environ`).
fn environment(root: &Path, pid_file: &Path) -> Held {
    let number = match file::text(&root.join(pid_file)) {
        Ok(text) => text.trim().to_owned(),
        Err(FileError::NotThere) => return Held::NotThere,
        Err(error) => return Held::NotKnown(format!("`{}` cannot be read: {error}", pid_file.display())),
    };
    if number.parse::<u32>().is_err() {
        return Held::NotKnown(format!("`{}` holds no number of a process", pid_file.display()));
    }
    let bytes = match file::bytes(&Path::new("/proc").join(&number).join("environ"), file::LARGEST) {
        Ok(bytes) => bytes,
        Err(FileError::NotThere) => {
            return Held::NotKnown(format!("the process {number} is not running any more"));
        }
        Err(error) => return Held::NotKnown(format!("the process {number} cannot be looked into: {error}")),
    };
    let pairs = bytes.split(|byte| *byte == 0).filter_map(|pair| {
        let text = String::from_utf8_lossy(pair);
        let (name, value) = text.split_once('=')?;
        Some((name.to_owned(), value.to_owned()))
    });
    Held::Environment(pairs.collect())
}
