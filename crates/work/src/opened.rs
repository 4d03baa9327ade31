//! A ledger that is open: what it says, its keys, and what it may reach outside of itself.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use cledger_core::model::{BrokenFile, Ledger, Mistake};
use cledger_core::resolve::{Assumption, Resolver};
use cledger_core::trust::{Granted, Named};
use cledger_store::{
    Changed, Disk, Folder, Glance, Keys, Scope, Sight, Surroundings, Unreadable, Watch, read_partly,
};

use crate::known::{Known, require, said};
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// How often a ledger is read that is changed meanwhile, and how long one waits between two times.
const GLANCES: u32 = 20;
const PAUSE: Duration = Duration::from_millis(50);

/// A ledger that was read, with all that is needed to work on it. It is owned whole, so that several threads
/// can share it.
pub struct Opened {
    /// Where the work is done.
    pub at: Arc<Workplace>,
    /// The ledger's folder.
    pub folder: PathBuf,
    /// What it says.
    pub ledger: Arc<Ledger>,
    /// What settings lead to outside of the ledger, as far as it may reach there.
    pub surroundings: Surroundings<'static>,
    /// The texts of a change of the ledger that was interrupted, and is read as made.
    over: Changed,
    known: Known,
}

impl Opened {
    /// Reads as much of the ledger as the scope asks for, all of which must be readable.
    pub fn read(at: &Arc<Workplace>, scope: &Scope) -> Result<Self, Trouble> {
        let opened = Self::read_quietly(at, scope)?;
        opened.refuse_broken(None, opened.ledger.broken.0.iter())?;
        Ok(opened)
    }

    /// The same as far as it can be read, and tells what is passed over: a mistake in one file stops only what needs
    /// that file.
    pub fn read_partly(at: &Arc<Workplace>, scope: &Scope) -> Result<Self, Trouble> {
        let opened = Self::read_quietly(at, scope)?;
        opened.tell_broken();
        Ok(opened)
    }

    /// Reads all of another ledger than the one that the work is done in, which must be readable.
    pub(crate) fn read_other(at: &Arc<Workplace>, folder: &Path) -> Result<Self, Trouble> {
        let root = cledger_store::find(Some(folder), &at.here)?;
        let ledger = read_partly(&Disk::new(root.clone()), &Scope::Whole)?;
        let opened = Self::of(at, root, ledger, Changed::new());
        opened.refuse_broken(None, opened.ledger.broken.0.iter())?;
        Ok(opened)
    }

    /// Tells which files are passed over.
    pub(crate) fn tell_broken(&self) {
        let broken: Vec<String> =
            self.ledger.broken.0.iter().map(|file| format!("`{}`", file.path.escape_debug())).collect();
        if !broken.is_empty() {
            self.at.telling.notice(&format!(
                "Passed over, since it cannot be read: {}. `cledger check` shows why.",
                broken.join(", ")
            ));
        }
    }

    /// The same without a word of what is passed over, for whoever tells it.
    pub(crate) fn read_quietly(at: &Arc<Workplace>, scope: &Scope) -> Result<Self, Trouble> {
        let root = at.root()?;
        let folder = Folder::open(&root).map_err(|error| {
            Trouble::outside(format!("the ledger's folder `{}` cannot be opened: {error}", root.display()))
        })?;
        let (glance, ledger) = of_one_moment(at, &root, &folder, scope);
        tell_open(at, &glance);
        let ledger = ledger?;
        let count = ledger.files.0.len();
        at.telling.detail(&format!("read {count} files of the ledger in {}", root.display()));
        Ok(Self::of(at, root, ledger, glance.after()))
    }

    /// Refuses to go on if some files are needed that cannot be read; `what` needs them.
    pub(crate) fn refuse_broken<'b>(
        &self,
        what: Option<String>,
        files: impl Iterator<Item = &'b BrokenFile>,
    ) -> Result<(), Trouble> {
        let mistakes: Vec<Mistake> = files.flat_map(|file| file.mistakes.clone()).collect();
        if mistakes.is_empty() {
            return Ok(());
        }
        Err(Unreadable { what, mistakes, files: self.ledger.files.clone() }.into())
    }

    /// A ledger that was read from this folder.
    pub(crate) fn of(at: &Arc<Workplace>, folder: PathBuf, ledger: Ledger, over: Changed) -> Self {
        let known = Known::of(at, &folder, &ledger);
        if let Some(trouble) = &known.trouble {
            at.telling.notice(&format!("{trouble}."));
        }
        let keys = keys(at, &known, Disk::with(folder.clone(), over.clone()));
        let surroundings = Surroundings::fetching(folder.clone(), known.granted.clone(), keys);
        Self { at: at.clone(), folder, ledger: Arc::new(ledger), surroundings, over, known }
    }

    /// The ledger's files, as they were read.
    pub(crate) fn disk(&self) -> Disk {
        Disk::with(self.folder.clone(), self.over.clone())
    }

    /// The ledger's keys.
    pub fn keys(&self) -> &Keys<'static> {
        &self.surroundings.keys
    }

    /// The keys as their files are now, whatever was read of them before.
    pub(crate) fn keys_anew(&self) -> Keys<'static> {
        keys(&self.at, &self.known, self.disk())
    }

    /// Surroundings of which nothing is fetched from the environment and from files.
    pub fn unfetched(&self) -> Surroundings<'static> {
        Surroundings::closed(keys(&self.at, &self.known, self.disk()))
    }

    /// Resolves what the ledger says.
    pub fn resolver(&self) -> Resolver<'_> {
        self.assuming(&[])
    }

    /// The same with values given for this run.
    pub fn assuming<'o>(&'o self, assumptions: &'o [Assumption]) -> Resolver<'o> {
        Resolver::new(&self.ledger, &self.surroundings, assumptions)
    }

    /// What the ledger may reach.
    pub fn granted(&self) -> &Granted {
        &self.known.granted
    }

    /// Whether somebody has said before what it may reach.
    pub(crate) fn was_trusted(&self) -> bool {
        self.known.was_trusted
    }

    /// Why nothing can be recalled of the ledger, if so.
    pub(crate) fn not_recalled(&self) -> Option<&str> {
        self.known.trouble.as_deref()
    }

    /// What watches its keys.
    pub(crate) fn watch(&self) -> &Arc<Watch> {
        &self.known.watch
    }

    /// Refuses to reach what nobody has said that the ledger may.
    pub(crate) fn require<'n>(&self, names: impl IntoIterator<Item = &'n Named>) -> Result<(), Trouble> {
        require(self.granted(), names)
    }

    /// Tells whose secrets could not be read, which keys are not as they were, and what was not fetched.
    pub fn tell_unread(&self) {
        self.tell_unread_of(&self.surroundings);
    }

    /// The same of other surroundings of this ledger.
    pub fn tell_unread_of(&self, outside: &Surroundings<'_>) {
        tell_unreadable(&self.at, &outside.keys);
        let refused = outside.refused();
        if !refused.is_empty() {
            let names: Vec<String> = refused.iter().map(said).collect();
            self.at.telling.notice(&format!(
                "Not read, since nobody has said that this ledger may: {}. `cledger trust` shows what it names.",
                names.join(", ")
            ));
        }
    }
}

/// Reads a ledger whole: where a change was made meanwhile, again.
fn of_one_moment(
    at: &Workplace,
    root: &Path,
    folder: &Folder,
    scope: &Scope,
) -> (Glance, Result<Ledger, Unreadable>) {
    for _ in 0..GLANCES {
        let glance = Glance::at(folder);
        let ledger = read_partly(&Disk::with(root, glance.after()), scope);
        if glance.is_same(&Glance::at(folder)) {
            return (glance, ledger);
        }
        thread::sleep(PAUSE);
    }
    at.telling.notice("The ledger is being changed all the time: what follows may be of two moments.");
    let glance = Glance::at(folder);
    let ledger = read_partly(&Disk::with(root, glance.after()), scope);
    (glance, ledger)
}

/// The keys of a ledger with these files.
fn keys(at: &Workplace, known: &Known, disk: Disk) -> Keys<'static> {
    Keys::new(disk, at.identity.clone()).watched(known.watch.clone())
}

/// Tells whose secrets could not be read, and which keys are not as they were.
pub(crate) fn tell_unreadable(at: &Workplace, keys: &Keys<'_>) {
    for (scope, reason) in keys.not_at_hand() {
        at.telling.notice(&format!("The secrets of `{}` are not readable here: {reason}.", scope.name()));
    }
    for (scope, sight, _) in keys.watch().news() {
        if let Sight::Unexplained(reason) = sight {
            at.telling.notice(&format!(
                "The key of `{}` is not the one that was seen here before: {reason}. Nothing is written \
                 under it; `cledger key list --compare` shows both.",
                scope.name()
            ));
        }
    }
}

/// Says that a change of the ledger is open, and what that means for whoever reads.
fn tell_open(at: &Workplace, glance: &Glance) {
    match (&glance.foreign, &glance.open) {
        (Some(foreign), _) => {
            at.telling.notice(&format!("{foreign}: it is passed over ({}).", foreign.help()));
        }
        (None, Some(Err(no_plan))) => {
            at.telling.notice(&format!("{no_plan}; it is passed over ({}).", no_plan.help()));
        }
        (None, Some(Ok(open))) => {
            let edited = open.edited();
            let but = if edited.is_empty() {
                String::new()
            } else {
                format!(", but for {}, edited since", edited.join(", "))
            };
            let count = open.files.len();
            at.telling.notice(&format!(
                "A change of {count} files of this ledger is open: it is read as it is after that{but}. \
                 `cledger resume` shows it, to finish it or put it back."
            ));
        }
        (None, None) => {}
    }
}
