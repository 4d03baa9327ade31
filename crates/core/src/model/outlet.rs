//! Outlets: where a stage's configuration is delivered to and read back from.

use std::time::Duration;

use wildmatch::WildMatch;

use super::{StageId, StageText};
use crate::address::Pattern;
use crate::name::Name;
use crate::source::Place;

/// An outlet of one or more stages.
#[derive(Debug, Clone)]
pub struct Outlet {
    /// Its name.
    pub name: Name,
    /// For each stage, whether it is one of its outlets.
    pub stages: Vec<bool>,
    /// The units that are delivered there, of all where this is empty.
    pub units: Vec<Pattern>,
    /// Names there that are never ours.
    pub keep: Vec<WildMatch>,
    /// How long it may take to answer.
    pub timeout: Duration,
    /// What it is.
    pub kind: OutletKind,
    /// Its name in `ledger.toml`.
    pub place: Place,
}

/// The kinds of outlets.
#[derive(Debug, Clone)]
pub enum OutletKind {
    /// Files as rendered, in a folder for each unit.
    Directory {
        /// The folder, from the ledger's; that of the unit itself if it refers to the unit.
        path: StageText,
    },
    /// The environment of a running process, which is only read.
    Process {
        /// The file with its number, from the ledger's folder.
        pid_file: StageText,
    },
}

impl OutletKind {
    /// The kinds by their names in `ledger.toml`.
    pub const NAMES: [&'static str; 2] = ["directory", "process"];

    /// The name in `ledger.toml`.
    pub fn name(&self) -> &'static str {
        match self {
            OutletKind::Directory { .. } => "directory",
            OutletKind::Process { .. } => "process",
        }
    }
}

impl Outlet {
    /// Whether a unit or instance of a stage is delivered there.
    pub fn takes(&self, stage: StageId, owner: (&str, Option<&str>)) -> bool {
        let unit = self.units.is_empty() || self.units.iter().any(|it| it.covers_owner(owner.0, owner.1));
        self.stages[usize::from(stage.0)] && unit
    }

    /// Whether a name there is never ours.
    pub fn keeps(&self, name: &str) -> bool {
        self.keep.iter().any(|keep| keep.matches(name))
    }
}
