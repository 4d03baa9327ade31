//! Reading back what outlets hold: many at once, each within its time limit.
//!
//! Each source has a thread of its own. One that hangs is left behind when its time is over, and what it
//! has told by then counts.

mod documents;
mod files;
mod process;
mod rows;
mod source;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::mpsc::{self, Sender};
use std::thread;
use std::time::{Duration, Instant};

use crate::failure::Deadline;
use crate::held::Held;
use crate::reach::Reach;
use crate::rows::Tables;

pub use files::NOT_ALL;
pub(crate) use files::files;
pub use source::{Listing, Source};

use source::{Teller, Told};

/// How many ways of units' own are gone at once.
const AT_ONCE: usize = 16;

/// What an outlet holds.
#[derive(Debug, Default)]
pub struct ReadBack {
    /// By unit or instance; those that are missing were not reached in time.
    pub units: BTreeMap<String, Held>,
    /// For those that are rows, the table as it is there.
    pub tables: BTreeMap<String, Arc<Tables>>,
    /// The names of all that are there, as far as the listing goes.
    pub names: Vec<String>,
    /// Why the outlet as a whole does not answer.
    pub trouble: Option<String>,
}

/// Reads all sources back, in their order, and tells each time how many have been heard to the end.
pub fn read_back(sources: &[Source], mut heard: impl FnMut(usize)) -> Vec<ReadBack> {
    let (sender, receiver) = mpsc::channel();
    let start = Instant::now();
    for (at, source) in sources.iter().enumerate() {
        let (sender, source) = (sender.clone(), source.clone());
        thread::spawn(move || {
            tell_all(&source, at, &sender);
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
            Told::Table(unit, table) => drop(back.tables.insert(unit, table)),
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

/// Tells what comes of a source by the way that all have, and by those that some have of their own.
fn tell_all(source: &Source, at: usize, sender: &Sender<(usize, Told)>) {
    if source.own.is_empty() {
        return tell(source, &Teller { at, sender, alone: None });
    }
    let together = source.together();
    let apart = source.apart();
    let share = apart.len().div_ceil(AT_ONCE).max(1);
    thread::scope(|scope| {
        for some in apart.chunks(share) {
            let sender = sender.clone();
            scope.spawn(move || {
                for (owner, source) in some {
                    tell(source, &Teller { at, sender: &sender, alone: Some(owner) });
                }
            });
        }
        if !together.asked.is_empty() {
            tell(&together, &Teller { at, sender, alone: None });
        }
    });
}

fn tell(source: &Source, teller: &Teller<'_>) {
    let deadline = Deadline::within(source.limit);
    match &source.reach {
        Reach::Local(root) => files::tell(root, source, teller),
        Reach::Http(http) => documents::tell(http, source, teller, deadline),
        Reach::Rows(reach) => rows::tell(reach, source, teller, deadline),
        Reach::None(reason) => teller.trouble(reason.as_str()),
    }
}
