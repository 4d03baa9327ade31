//! The ledger's lock, and changes of several files of which all are made or none.
//!
//! A change is first written whole into `.cledger/change/`: the texts before and after it, and at last the
//! plan that names them ([`plan`]). From then on it counts, and the next command that writes finishes it if
//! it was interrupted. Whoever only reads reads the ledger as it is after it. Without the plan nothing has
//! happened yet, and what lies there is thrown away.

mod plan;

use std::fs::{File, TryLockError};
use std::io::{self, Read as _, Seek as _, Write as _};
use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};

use crate::folder::{FileError, Folder, Links};
use crate::local::{Foreign, Local};
use crate::mode::Mode;
use crate::tree::Changed;
use crate::write::WriteError;

pub use plan::{NoPlan, OpenChange, OpenFile, Since};

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
    /// What should be the lock is none.
    #[error("the ledger cannot be locked: `.cledger/lock`: {0}")]
    Lock(FileError),
    /// Its local state is not this user's.
    #[error("the ledger is not changed: {0}")]
    Foreign(Foreign),
    /// A change was interrupted, and what lies there is no plan of this program.
    #[error("the ledger is not changed: {0}")]
    NoPlan(NoPlan),
    /// A change was interrupted, and files of it were edited since.
    #[error(
        "a change of this ledger was interrupted, and {} edited since: {}",
        if .0.len() == 1 { "a file of it was" } else { "files of it were" },
        .0.join(", ")
    )]
    Edited(Vec<String>),
    /// A change that was interrupted cannot be finished.
    #[error("a change that was interrupted cannot be finished: {0}")]
    Unfinished(WriteError),
}

/// What becomes of a change that was interrupted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Interrupted {
    /// It is finished; refused where a file of it was edited since.
    Finish,
    /// It is finished, all but the files that were edited since.
    FinishRest,
    /// All but the files that were edited since are put back as they were before it.
    PutBack,
}

/// A ledger that nobody else changes meanwhile.
#[derive(Debug)]
pub struct Locked {
    root: Folder,
    state: Folder,
    /// Closing it gives the lock back.
    lock: File,
    /// The change that was open, and is not any more.
    settled: Option<OpenChange>,
}

impl Locked {
    /// Locks a ledger, waiting so long at most, and finishes what was interrupted.
    pub fn take(root: &Path, wait: Duration) -> Result<Self, LockError> {
        Self::settle(root, wait, Interrupted::Finish)
    }

    /// Locks a ledger, and finishes what was interrupted, or puts it back.
    pub fn settle(root: &Path, wait: Duration, interrupted: Interrupted) -> Result<Self, LockError> {
        let root = Folder::open(root)?;
        let state = Local::make(&root)?.map_err(LockError::Foreign)?;
        let lock = state.lockable(Path::new("lock")).map_err(LockError::Lock)?;
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
        state.clear();
        let mut locked = Self { root, state, lock, settled: None };
        if let Some(open) = OpenChange::of(&locked.root, &locked.state).map_err(LockError::NoPlan)? {
            let edited = open.edited();
            if interrupted == Interrupted::Finish && !edited.is_empty() {
                return Err(LockError::Edited(edited));
            }
            locked.carry_out(&open, interrupted == Interrupted::PutBack).map_err(LockError::Unfinished)?;
            locked.settled = Some(open);
        } else {
            plan::clear_up(&locked.state).map_err(LockError::Unfinished)?;
        }
        Ok(locked)
    }

    /// The change that was interrupted, and is finished or put back now.
    pub fn settled(&self) -> Option<&OpenChange> {
        self.settled.as_ref()
    }

    /// Makes a change of several files, all or none.
    pub fn write(&self, changed: &Changed) -> Result<(), WriteError> {
        if let [(path, Some(text))] = &changed.iter().collect::<Vec<_>>()[..] {
            let (path, way) = (Path::new(path), Some(&self.state));
            return self.root.write_many(way, &[(path, text.as_bytes())], Mode::AsBefore);
        }
        let open = OpenChange::new(&self.root, changed)?;
        self.count_on()?;
        open.put_down(&self.state)?;
        self.carry_out(&open, false)
    }

    /// Carries a change out, or puts everything back; then it is not open any more.
    fn carry_out(&self, open: &OpenChange, back: bool) -> Result<(), WriteError> {
        let wanted = |file: &&OpenFile| match file.since {
            Since::AsBefore => !back,
            Since::AsAfter => back,
            Since::Edited => false,
        };
        let (mut written, mut removed) = (Vec::new(), Vec::new());
        for file in open.files.iter().filter(wanted) {
            match if back { &file.before } else { &file.after } {
                Some(text) => written.push((Path::new(&file.path), text.as_bytes())),
                None => removed.push(&file.path),
            }
        }
        self.root.write_many(Some(&self.state), &written, Mode::AsBefore)?;
        // After all that is written, since folders that are left empty go, too.
        for path in removed {
            self.remove(path)?;
        }
        plan::clear_up(&self.state)?;
        self.count_on()
    }

    /// Removes a file together with a folder of settings that is left empty.
    fn remove(&self, path: &str) -> Result<(), WriteError> {
        let relative = Path::new(path);
        let wrong = |source| WriteError::new(self.root.path().join(path), source);
        self.root.remove(relative).map_err(wrong)?;
        if let Some(folder) = relative.parent().filter(|_| path.split('/').count() > 2) {
            // It may hold other files, and then it stays.
            self.root.remove_empty(folder);
        }
        Ok(())
    }

    /// Counts a change of several files in the lock's own text, so that whoever reads meanwhile can tell.
    fn count_on(&self) -> Result<(), WriteError> {
        let mut lock = &self.lock;
        let mut count = || -> io::Result<()> {
            let mut text = String::new();
            lock.rewind()?;
            lock.take(COUNT).read_to_string(&mut text)?;
            lock.set_len(0)?;
            lock.rewind()?;
            lock.write_all((text.trim().parse::<u64>().unwrap_or(0) + 1).to_string().as_bytes())
        };
        count().map_err(|source| WriteError::new(self.state.path().join("lock"), source))
    }
}

/// The most bytes of the lock that count.
const COUNT: u64 = 20;

/// What whoever reads a ledger without its lock finds of changes.
#[derive(Debug)]
pub struct Glance {
    /// Changes of several files so far, where that is known.
    count: Option<Vec<u8>>,
    /// Whether one was open.
    is_open: bool,
    /// The change that is open, if one is; or why it cannot be read.
    pub open: Option<Result<OpenChange, NoPlan>>,
    /// Why the ledger's local state counts for nothing, if so.
    pub foreign: Option<Foreign>,
}

impl Glance {
    /// Looks at a ledger's local state, and changes nothing there. Costs one look where there is none.
    pub fn at(root: &Folder) -> Self {
        let mut glance = Self { count: None, is_open: false, open: None, foreign: None };
        let state = Path::new(crate::local::STATE);
        let has_plan = || root.about_entry(&state.join(plan::PLAN)).is_ok();
        let local = match Local::at_a_glance(root) {
            Ok(Local::Ours(_)) if has_plan() => Local::of(root),
            local => local,
        };
        match local {
            Ok(Local::Foreign(foreign)) => glance.foreign = Some(foreign),
            Ok(Local::Ours(folder)) => {
                glance.open = OpenChange::of(root, &folder).transpose();
                glance.is_open = glance.open.is_some();
            }
            Ok(Local::None) | Err(_) => {}
        }
        glance.count = root.read(&state.join("lock"), COUNT, Links::Refused).ok();
        glance
    }

    /// Whether no change was made or begun in between.
    pub fn is_same(&self, later: &Glance) -> bool {
        self.count == later.count && self.is_open == later.is_open
    }

    /// The texts that the ledger has once the open change is made. Files that were edited since stay as they
    /// are.
    pub fn after(&self) -> Changed {
        match &self.open {
            Some(Ok(open)) => open.after(),
            _ => Changed::new(),
        }
    }
}

#[cfg(test)]
mod tests;
