//! Reading back what outlets hold: many at once, each within its time limit.
//!
//! Each source has a thread of its own. One that hangs is left behind when its time is over, and what it
//! has told by then counts.

mod documents;
mod files;
mod process;
mod rows;

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::mpsc::{self, Sender};
use std::thread;
use std::time::{Duration, Instant};

use cledger_store::Links;
use zeroize::Zeroizing;

use crate::failure::Deadline;
use crate::file::FileError;
use crate::reach::{Reach, Values};

pub(crate) use files::files;

/// What is read back for one unit or instance.
#[derive(Debug, Clone)]
pub enum Asked {
    /// These files of a folder.
    Files(UnitFiles),
    /// The environment of the process whose number is in this file.
    Environment(PathBuf),
    /// The document at this address.
    Document(String),
    /// The rows of this scope.
    Rows(String),
}

/// Files that a unit has in an outlet.
#[derive(Debug, Clone)]
pub struct UnitFiles {
    /// The outlet's folder, from the one that the way leads to. Links on the way there are its owner's.
    pub base: PathBuf,
    /// The unit's folder below it.
    pub below: PathBuf,
    /// The files' paths below that.
    pub paths: Vec<String>,
    /// What becomes of links below the outlet's folder.
    pub links: Links,
}

/// What else is asked for beside what each unit has.
#[derive(Debug, Clone)]
pub enum Listing {
    /// The folders in this one, those behind links too if these are followed.
    Folders(PathBuf, Links),
    /// The scopes that end like this, without it.
    Scopes(String),
}

/// An outlet in a stage.
#[derive(Debug, Clone)]
pub struct Source {
    /// The way there.
    pub reach: Reach,
    /// What is asked of it, by unit or instance.
    pub asked: BTreeMap<String, Asked>,
    /// What tells which units are there, if anything does.
    pub listing: Option<Listing>,
    /// How long it may take.
    pub limit: Duration,
}

/// What a unit or instance has there.
#[derive(Debug)]
pub enum Held {
    /// Its files, by path.
    Files(BTreeMap<String, Result<Zeroizing<String>, FileError>>),
    /// Its environment variables, by name.
    Environment(BTreeMap<String, String>),
    /// Its document, and its entity tag if there is one.
    Document(Zeroizing<String>, Option<String>),
    /// Its rows.
    Rows(Values),
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
    /// The names of all that are there, as far as the listing goes.
    pub names: Vec<String>,
    /// Why the outlet as a whole does not answer.
    pub trouble: Option<String>,
}

enum Told {
    Unit(String, Held),
    Names(Vec<String>),
    Trouble(String),
    Over,
}

/// Tells what comes of a source. Each method gives `false` once nobody listens any more.
struct Teller<'s> {
    at: usize,
    sender: &'s Sender<(usize, Told)>,
}

impl Teller<'_> {
    fn unit(&self, unit: &str, held: Held) -> bool {
        self.sender.send((self.at, Told::Unit(unit.to_owned(), held))).is_ok()
    }

    fn names(&self, names: Vec<String>) -> bool {
        self.sender.send((self.at, Told::Names(names))).is_ok()
    }

    fn trouble(&self, reason: impl Into<String>) {
        // Nothing more comes of this source, so it does not matter whether anybody listens.
        let _ = self.sender.send((self.at, Told::Trouble(reason.into())));
    }
}

/// Reads all sources back, in their order, and tells each time how many have been heard to the end.
pub fn read_back(sources: &[Source], mut heard: impl FnMut(usize)) -> Vec<ReadBack> {
    let (sender, receiver) = mpsc::channel();
    let start = Instant::now();
    for (at, source) in sources.iter().enumerate() {
        let (sender, source) = (sender.clone(), source.clone());
        thread::spawn(move || {
            tell(&source, &Teller { at, sender: &sender });
            let _ = sender.send((at, Told::Over));
        });
    }
    drop(sender);
    let mut found: Vec<ReadBack> = sources.iter().map(|_| ReadBack::default()).collect();
    let longest = sources.iter().map(|source| source.limit).max().unwrap_or_default();
    let left = |limit: Duration| (start + limit).saturating_duration_since(Instant::now());
    let mut over = 0;
    while let Ok((at, told)) = receiver.recv_timeout(left(longest)) {
        let (back, source): (&mut ReadBack, &Source) = (&mut found[at], &sources[at]);
        // What comes after its time does not count: the answer must not hang on how slow others are.
        if left(source.limit).is_zero() {
            continue;
        }
        match told {
            Told::Unit(unit, held) => drop(back.units.insert(unit, held)),
            Told::Names(names) => back.names = names,
            Told::Trouble(reason) => back.trouble = Some(reason),
            Told::Over => {
                over += 1;
                heard(over);
            }
        }
    }
    found
}

fn tell(source: &Source, teller: &Teller<'_>) {
    let deadline = Deadline::within(source.limit);
    match &source.reach {
        Reach::Local(root) => files::tell(root, source, teller),
        Reach::Http(http) => documents::tell(http, source, teller, deadline),
        Reach::Postgres(postgres) => rows::tell(postgres, source, teller, deadline),
        Reach::None(reason) => teller.trouble(reason.as_str()),
    }
}
