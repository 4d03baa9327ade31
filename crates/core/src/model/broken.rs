//! Files of a ledger that could not be read, and what is not known for them.
//!
//! A mistake in one file stops only what needs that file: the rest of the ledger is there, and says what is
//! missing from it.

use std::collections::BTreeSet;

use super::{LayerId, Ledger, Subject};
use crate::name::Name;
use crate::resolve;
use crate::source::Place;

/// One mistake in a ledger's files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mistake {
    /// What is wrong.
    pub message: String,
    /// The text that is wrong, if the file could be read.
    pub place: Option<Place>,
    /// The file or folder, where no text can be shown.
    pub path: Option<String>,
    /// What to do about it.
    pub help: Option<String>,
    /// Whether the text that is wrong may be a secret, and must not be shown.
    pub secret: bool,
    /// Whether nothing of the ledger can be trusted for it, wherever it is.
    pub spoils_all: bool,
}

impl Mistake {
    fn new(message: String, place: Option<Place>, path: Option<String>) -> Self {
        Self { message, place, path, help: None, secret: false, spoils_all: false }
    }

    /// A mistake in a text that was read.
    pub fn at(place: Place, message: impl Into<String>) -> Self {
        Self::new(message.into(), Some(place), None)
    }

    /// A mistake of a whole file or folder.
    pub fn of(path: &str, message: impl Into<String>) -> Self {
        Self::new(message.into(), None, Some(path.to_owned()))
    }

    /// Says that the text may be a secret.
    #[must_use]
    pub fn secret(self) -> Self {
        Self { secret: true, ..self }
    }

    /// Says that nothing of the ledger can be trusted for it.
    #[must_use]
    pub fn of_all(self) -> Self {
        Self { spoils_all: true, ..self }
    }

    /// Adds what to do about it.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }
}

/// What is not known for a file that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Missed {
    /// What a unit declares, and so all that is set for it.
    Unit(Name),
    /// All settings of a stage or group.
    Layer(LayerId),
    /// Those for a unit and its instances.
    UnitIn(LayerId, Name),
    /// What is waived.
    Waivers,
}

/// A file that could not be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BrokenFile {
    /// Its path from the ledger's folder.
    pub path: String,
    /// What is not known for it; nothing for one that says nothing of anything that the ledger has.
    pub misses: BTreeSet<Missed>,
    /// What is wrong with it, by place; at least one.
    pub mistakes: Vec<Mistake>,
}

/// The files of a ledger that could not be read, by path.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct BrokenFiles(pub Vec<BrokenFile>);

impl BrokenFiles {
    /// Whether all of the ledger could be read.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Those for which something is not known.
    pub fn missing(&self, is_missed: impl Fn(&Missed) -> bool) -> impl Iterator<Item = &BrokenFile> {
        self.0.iter().filter(move |file| file.misses.iter().any(&is_missed))
    }

    /// Whether what some unit declares is not known.
    pub fn misses_units(&self) -> bool {
        self.missing(|missed| matches!(missed, Missed::Unit(_))).next().is_some()
    }

    /// Those for which it is not known what a unit declares.
    pub fn of_unit(&self, unit: &str) -> impl Iterator<Item = &BrokenFile> {
        self.missing(move |missed| matches!(missed, Missed::Unit(name) if name.as_str() == unit))
    }
}

impl Ledger {
    /// The files that could not be read and say something for a subject in a stage: those of the unit, and those of
    /// all layers that count there.
    pub fn broken_for(&self, subject: Subject, stage: super::StageId) -> impl Iterator<Item = &BrokenFile> {
        let unit = match subject {
            Subject::Unit(id, _) if !self.broken.is_empty() => Some(&self.unit(id).name),
            _ => None,
        };
        let layers =
            if self.broken.is_empty() { Vec::new() } else { resolve::layers_of(&self.stages, stage) };
        self.broken.missing(move |missed| match missed {
            Missed::Unit(name) => unit == Some(name),
            Missed::Layer(layer) => layers.contains(layer),
            Missed::UnitIn(layer, name) => layers.contains(layer) && unit == Some(name),
            Missed::Waivers => false,
        })
    }

    /// The files that could not be read and would hold a subject's settings of a layer.
    pub fn broken_at(&self, subject: Subject, layer: LayerId) -> impl Iterator<Item = &BrokenFile> {
        let unit = match subject {
            Subject::Unit(id, _) => Some(&self.unit(id).name),
            Subject::Shared => None,
        };
        self.broken.missing(move |missed| match missed {
            Missed::Layer(of) => *of == layer,
            Missed::UnitIn(of, name) => *of == layer && unit == Some(name),
            Missed::Unit(_) | Missed::Waivers => false,
        })
    }

    /// The files that could not be read and say something for anybody in a stage.
    pub fn broken_in(&self, stage: super::StageId) -> impl Iterator<Item = &BrokenFile> {
        let layers =
            if self.broken.is_empty() { Vec::new() } else { resolve::layers_of(&self.stages, stage) };
        self.broken.missing(move |missed| match missed {
            Missed::Unit(_) => true,
            Missed::Layer(layer) | Missed::UnitIn(layer, _) => layers.contains(layer),
            Missed::Waivers => false,
        })
    }
}
