//! The ledger's lock, and changes of several files of which all are made or none.
//!
//! A change is first written whole into `.cledger/change/`: the new texts, and at last the plan that
//! names them. From then on it counts, and whoever comes next finishes it if it was interrupted.
//! Without the plan nothing has happened yet, and what lies there is thrown away.

use std::fs::{self, File, TryLockError};
use std::io;
use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, Instant};

use crate::edit::Changed;
use crate::write::{Mode, TEMPORARY, WriteError, write_atomically, write_by_way_of};

/// Where local state is kept; never in version control.
const STATE: &str = ".cledger";

/// How long to wait before trying again.
const PAUSE: Duration = Duration::from_millis(20);

/// Why the ledger cannot be locked.
#[derive(Debug, thiserror::Error)]
pub enum LockError {
    /// Somebody else is changing it.
    #[error("somebody else is changing the ledger, and was not done within {} s", .0.as_secs())]
    Busy(Duration),
    /// The system refused.
    #[error("the ledger cannot be locked: {0}")]
    Io(#[from] io::Error),
    /// A change that was interrupted cannot be finished.
    #[error("a change that was interrupted cannot be finished: {0}")]
    Unfinished(WriteError),
}

/// A ledger that nobody else changes meanwhile.
#[derive(Debug)]
pub struct Locked {
    root: PathBuf,
    /// Closing it gives the lock back.
    _lock: File,
}

impl Locked {
    /// Locks a ledger, waiting so long at most, and finishes what was interrupted.
    pub fn take(root: &Path, wait: Duration) -> Result<Self, LockError> {
        let state = root.join(STATE);
        if !state.is_dir() {
            fs::create_dir_all(&state)?;
            fs::write(state.join(".gitignore"), "*\n")?;
        }
        let lock = File::options().create(true).truncate(false).write(true).open(state.join("lock"))?;
        let start = Instant::now();
        loop {
            match lock.try_lock() {
                Ok(()) => break,
                Err(TryLockError::Error(error)) => return Err(error.into()),
                Err(TryLockError::WouldBlock) if start.elapsed() >= wait => {
                    return Err(LockError::Busy(wait));
                }
                Err(TryLockError::WouldBlock) => thread::sleep(PAUSE),
            }
        }
        let locked = Self { root: root.to_owned(), _lock: lock };
        for entry in fs::read_dir(&state)?.flatten() {
            // Nobody else is writing, so that these are left from somebody who was interrupted.
            if entry.file_name().to_string_lossy().starts_with(TEMPORARY) {
                fs::remove_file(entry.path())?;
            }
        }
        locked.finish().map_err(LockError::Unfinished)?;
        Ok(locked)
    }

    /// Makes a change of several files, all or none.
    pub fn write(&self, changed: &Changed) -> Result<(), WriteError> {
        if let [(path, Some(text))] = &changed.iter().collect::<Vec<_>>()[..] {
            return self.write_one(path, text);
        }
        let folder = self.folder();
        let mut plan: Vec<(&str, Option<usize>)> = Vec::new();
        for (number, (path, text)) in changed.iter().enumerate() {
            if let Some(text) = text {
                write_atomically(&folder.join(number.to_string()), text.as_bytes(), Mode::OwnerOnly)?;
            }
            plan.push((path, text.as_ref().map(|_| number)));
        }
        // Paths and numbers always serialise.
        let plan = serde_json::to_vec(&plan).unwrap_or_default();
        write_atomically(&self.plan(), &plan, Mode::OwnerOnly)?;
        self.finish()
    }

    fn folder(&self) -> PathBuf {
        self.root.join(STATE).join("change")
    }

    fn plan(&self) -> PathBuf {
        self.folder().join("plan.json")
    }

    /// Carries out the plan that lies there, if there is one, and clears up.
    fn finish(&self) -> Result<(), WriteError> {
        let folder = self.folder();
        let wrong = |path: &Path| {
            let path = path.to_owned();
            move |source| WriteError::new(path, source)
        };
        if let Ok(plan) = fs::read(self.plan()) {
            let plan: Vec<(String, Option<usize>)> =
                serde_json::from_slice(&plan).map_err(|error| wrong(&self.plan())(error.into()))?;
            for (path, number) in plan {
                if let Some(number) = number {
                    let source = folder.join(number.to_string());
                    let text = fs::read_to_string(&source).map_err(wrong(&source))?;
                    self.write_one(&path, &text)?;
                } else {
                    self.remove_one(&path)?;
                }
            }
        }
        // The plan first: without it what is left counts for nothing.
        let plan = self.plan();
        match fs::remove_file(&plan) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(wrong(&plan)(error)),
            _ => {}
        }
        match fs::remove_dir_all(&folder) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(wrong(&folder)(error)),
            _ => Ok(()),
        }
    }

    fn write_one(&self, path: &str, text: &str) -> Result<(), WriteError> {
        let path = self.root.join(path);
        // A link stays one: what it leads to is written.
        let path = fs::canonicalize(&path).unwrap_or(path);
        write_by_way_of(&self.root.join(STATE), &path, text.as_bytes(), Mode::AsBefore).map(|_| ())
    }

    /// Removes a file, and a folder of settings that is left empty.
    fn remove_one(&self, path: &str) -> Result<(), WriteError> {
        let full = self.root.join(path);
        match fs::remove_file(&full) {
            Err(source) if source.kind() != io::ErrorKind::NotFound => Err(WriteError::new(full, source)),
            _ => {
                if path.split('/').count() > 2
                    && let Some(folder) = full.parent()
                {
                    // It may hold other files, and then it stays.
                    let _ = fs::remove_dir(folder);
                }
                Ok(())
            }
        }
    }
}

/// Finishes a change that was interrupted, if there is one. Costs one look where there is none.
pub fn finish_interrupted(root: &Path, wait: Duration) -> Result<(), LockError> {
    if root.join(STATE).join("change").exists() {
        drop(Locked::take(root, wait)?);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn change(files: &[(&str, Option<&str>)]) -> Changed {
        files.iter().map(|(path, text)| ((*path).to_owned(), text.map(str::to_owned))).collect()
    }

    #[test]
    fn a_change_is_finished_or_undone_by_whoever_comes_next() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        let read = |path: &str| fs::read_to_string(root.join(path)).ok();
        let locked = Locked::take(root, Duration::ZERO).unwrap();
        locked.write(&change(&[("a", Some("1")), ("d/e/b", Some("1"))])).unwrap();
        assert!(matches!(Locked::take(root, Duration::ZERO), Err(LockError::Busy(_))));
        drop(locked);
        // Interrupted before the plan: nothing has happened.
        fs::create_dir(root.join(".cledger/change")).unwrap();
        fs::write(root.join(".cledger/change/0"), "2").unwrap();
        finish_interrupted(root, Duration::ZERO).unwrap();
        assert_eq!((read("a"), read(".cledger/change/0")), (Some("1".to_owned()), None));
        // Interrupted after the plan, with one of two files written.
        fs::create_dir(root.join(".cledger/change")).unwrap();
        fs::write(root.join(".cledger/change/0"), "2").unwrap();
        fs::write(root.join("a"), "2").unwrap();
        fs::write(root.join(".cledger/change/plan.json"), r#"[["a",0],["d/e/b",null]]"#).unwrap();
        finish_interrupted(root, Duration::ZERO).unwrap();
        assert_eq!((read("a"), read("d/e/b")), (Some("2".to_owned()), None));
        assert!(!root.join("d/e").exists() && !root.join(".cledger/change").exists());
    }
}
