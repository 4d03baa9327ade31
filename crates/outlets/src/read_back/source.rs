//! Outlets that are read back, and what comes of them one after the other.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::Sender;
use std::time::Duration;

use cledger_store::Links;

use crate::held::{Asked, Held};
use crate::reach::Reach;
use crate::rows::Tables;

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
    /// The ways of units and instances that have one of their own.
    pub own: BTreeMap<String, Reach>,
    /// What is asked of it, by unit or instance.
    pub asked: BTreeMap<String, Asked>,
    /// What tells which units are there, if anything does.
    pub listing: Option<Listing>,
    /// How long it may take.
    pub limit: Duration,
}

impl Source {
    /// The way to what a unit or instance has there.
    pub fn reach_of(&self, owner: &str) -> &Reach {
        self.own.get(owner).unwrap_or(&self.reach)
    }

    /// One source for each way that some have of their own.
    pub(super) fn apart(&self) -> Vec<(String, Source)> {
        let one = |(owner, reach): (&String, &Reach)| {
            let asked = self.asked.get_key_value(owner)?;
            let asked = [(asked.0.clone(), asked.1.clone())].into();
            let (own, reach) = (BTreeMap::new(), reach.clone());
            Some((owner.clone(), Source { reach, own, asked, listing: None, limit: self.limit }))
        };
        self.own.iter().filter_map(one).collect()
    }

    /// What is asked by the way that all have.
    pub(super) fn together(&self) -> Source {
        let asked = self.asked.iter().filter(|(owner, _)| !self.own.contains_key(*owner));
        let asked = asked.map(|(owner, asked)| (owner.clone(), asked.clone())).collect();
        Source { own: BTreeMap::new(), asked, ..self.clone() }
    }
}

/// Something that comes of a source.
pub(super) enum Told {
    Unit(String, Held),
    Table(String, Arc<Tables>),
    Names(Vec<String>),
    Trouble(String),
    Over,
}

/// Tells what comes of a source. Each method gives `false` once nobody listens any more.
pub(super) struct Teller<'s> {
    pub(super) at: usize,
    pub(super) sender: &'s Sender<(usize, Told)>,
    /// The unit that alone is asked for, where that is so: what is in the way there is in the way of no other.
    pub(super) alone: Option<&'s str>,
}

impl Teller<'_> {
    pub(super) fn unit(&self, unit: &str, held: Held) -> bool {
        self.sender.send((self.at, Told::Unit(unit.to_owned(), held))).is_ok()
    }

    pub(super) fn table(&self, unit: &str, table: Arc<Tables>) {
        // Whether anybody listens is told with the unit itself.
        let _ = self.sender.send((self.at, Told::Table(unit.to_owned(), table)));
    }

    pub(super) fn names(&self, names: Vec<String>) -> bool {
        self.sender.send((self.at, Told::Names(names))).is_ok()
    }

    pub(super) fn trouble(&self, reason: impl Into<String>) {
        let told = match self.alone {
            Some(unit) => Told::Unit(unit.to_owned(), Held::NotKnown(reason.into())),
            None => Told::Trouble(reason.into()),
        };
        // Nothing more comes of this source, so it does not matter whether anybody listens.
        let _ = self.sender.send((self.at, told));
    }
}
