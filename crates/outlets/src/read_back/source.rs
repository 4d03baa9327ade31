//! Outlets that are read back, and what comes of them one after the other.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::mpsc::Sender;
use std::time::Duration;

use cledger_store::Links;

use crate::held::{Asked, Held};
use crate::reach::Reach;

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

/// Something that comes of a source.
pub(super) enum Told {
    Unit(String, Held),
    Names(Vec<String>),
    Trouble(String),
    Over,
}

/// Tells what comes of a source. Each method gives `false` once nobody listens any more.
pub(super) struct Teller<'s> {
    pub(super) at: usize,
    pub(super) sender: &'s Sender<(usize, Told)>,
}

impl Teller<'_> {
    pub(super) fn unit(&self, unit: &str, held: Held) -> bool {
        self.sender.send((self.at, Told::Unit(unit.to_owned(), held))).is_ok()
    }

    pub(super) fn names(&self, names: Vec<String>) -> bool {
        self.sender.send((self.at, Told::Names(names))).is_ok()
    }

    pub(super) fn trouble(&self, reason: impl Into<String>) {
        // Nothing more comes of this source, so it does not matter whether anybody listens.
        let _ = self.sender.send((self.at, Told::Trouble(reason.into())));
    }
}
