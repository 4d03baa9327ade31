//! What is really out there: where it is, how it stands to the ledger, and how it is brought into line.

pub(crate) mod bring;
pub(crate) mod captured;
pub(crate) mod look;
pub(crate) mod lookups;
pub(crate) mod made;
pub(crate) mod places;
pub(crate) mod reach;
pub(crate) mod since;

use cledger_core::drift::{FileDrift, NameDrift};
use cledger_outlets::read_back::{ReadBack, Source, read_back};

use crate::output::console::Console;

pub(crate) use look::{Looked, Seeing, look};
pub(crate) use places::{Around, Place};

/// Reads sources back, with a word on the console of how far that is.
pub(crate) fn read_all(sources: &[Source], console: &Console, what: &'static str) -> Vec<ReadBack> {
    let progress = console.progress(sources.len(), what);
    let backs = read_back(sources, |heard| progress.set_position(heard as u64));
    progress.finish_and_clear();
    backs
}

/// How a unit or instance stands at one place.
#[derive(Debug)]
pub(crate) struct UnitDrift {
    /// Its name.
    pub(crate) owner: String,
    pub(crate) stage: String,
    /// The outlet's name and kind, where it is not a folder that was named.
    pub(crate) outlet: Option<(String, &'static str)>,
    pub(crate) state: State,
    /// What the daybook has last of it, where one is at hand.
    pub(crate) last: Option<LastDelivery>,
}

/// The last record of a unit in a stage.
#[derive(Debug, Clone)]
pub(crate) struct LastDelivery {
    pub(crate) number: u64,
    pub(crate) time: String,
    pub(crate) who: String,
    pub(crate) is_withdrawal: bool,
}

/// What was found of a unit or instance.
#[derive(Debug)]
pub(crate) enum State {
    /// It is there: its files, by path, or what else it has there.
    There(Vec<(String, FileDrift)>),
    /// It is not there at all.
    NotThere,
    /// Nothing is rendered for it.
    NothingRendered,
    /// It is there, and the ledger does not know it.
    Unknown,
    /// Nobody can tell, for this reason.
    NotKnown(String),
}

impl UnitDrift {
    /// Whether all is as the ledger says.
    pub(crate) fn is_clean(&self) -> bool {
        match &self.state {
            State::There(files) => files.iter().all(|(_, file)| file.is_clean()),
            State::NothingRendered => true,
            State::NotThere => self.is_withdrawn(),
            State::Unknown | State::NotKnown(_) => false,
        }
    }

    /// Whether it was taken off, and is not there.
    pub(crate) fn is_withdrawn(&self) -> bool {
        matches!(self.state, State::NotThere) && self.last.as_ref().is_some_and(|last| last.is_withdrawal)
    }

    /// Whether it is exactly as the ledger makes it: waivers do not count where something is brought.
    pub(crate) fn is_as_made(&self) -> bool {
        match &self.state {
            State::There(files) => files.iter().all(|(_, file)| matches!(file, FileDrift::AsLedger)),
            State::NothingRendered => true,
            State::NotThere | State::Unknown | State::NotKnown(_) => false,
        }
    }

    /// Why nobody can tell, if so.
    pub(crate) fn reason(&self) -> Option<&str> {
        match &self.state {
            State::NotKnown(reason) => Some(reason),
            _ => None,
        }
    }

    /// Whether nothing came back of it.
    pub(crate) fn is_unreachable(&self) -> bool {
        matches!(self.state, State::NotKnown(_))
    }

    /// Whether nothing is known to differ, and not all is known.
    pub(crate) fn is_unknown(&self) -> bool {
        let State::There(files) = &self.state else { return false };
        !self.is_clean()
            && files.iter().all(|(_, file)| match file {
                FileDrift::Drifted(names) => {
                    names.iter().all(|name| name.waived || name.what == NameDrift::Unreadable)
                }
                other => other.is_clean(),
            })
    }
}
