//! How units stand at the places where they are looked at.

use cledger_core::drift::{Drifted, FileDrift, NameDrift};

/// What stands for the name and kind of an outlet where one looked at what the ledger said when a capture was taken.
pub const SAID: (&str, &str) = ("the captured ledger", "ledger");

/// How a unit or instance stands at one place.
#[derive(Debug)]
pub struct UnitDrift {
    /// Its name.
    pub owner: String,
    /// In which stage.
    pub stage: String,
    /// The outlet's name and kind, where it is not a folder that was named.
    pub outlet: Option<(String, &'static str)>,
    /// What was found of it.
    pub state: State,
    /// What the daybook has last of it, where one is at hand.
    pub last: Option<LastDelivery>,
}

/// The last record of a unit in a stage.
#[derive(Debug, Clone)]
pub struct LastDelivery {
    /// Its number.
    pub number: u64,
    /// When (RFC 3339, UTC).
    pub time: String,
    /// Who.
    pub who: String,
    /// Whether it took off what was there.
    pub is_withdrawal: bool,
}

/// What was found of a unit or instance.
#[derive(Debug)]
pub enum State {
    /// It is there: its files, by path, or what else it has there.
    There(Vec<(String, FileDrift)>),
    /// It is not there at all.
    NotThere,
    /// Nothing is rendered for it.
    NothingRendered,
    /// It is there, and the ledger does not know it.
    Unknown,
    /// It was brought, is still there, and does not belong there any more.
    /// With the name that it has now, if it was only renamed.
    LeftOver(Option<String>),
    /// It was taken off: what is there is nobody's here.
    Withdrawn,
    /// Nobody can tell, for this reason.
    NotKnown(String),
}

impl UnitDrift {
    /// Whether all is as the ledger says.
    pub fn is_clean(&self) -> bool {
        match &self.state {
            State::There(files) => files.iter().all(|(_, file)| file.is_clean()),
            State::NothingRendered | State::Withdrawn => true,
            State::NotThere => self.is_withdrawn(),
            State::Unknown | State::LeftOver(_) | State::NotKnown(_) => false,
        }
    }

    /// Whether it was taken off, and is not there.
    pub fn is_withdrawn(&self) -> bool {
        matches!(self.state, State::NotThere | State::Withdrawn)
            && self.last.as_ref().is_some_and(|last| last.is_withdrawal)
    }

    /// Whether it is exactly as the ledger makes it: waivers do not count where something is brought.
    pub fn is_as_made(&self) -> bool {
        match &self.state {
            State::There(files) => {
                files.iter().all(|(_, file)| matches!(file, FileDrift::AsLedger | FileDrift::Theirs))
            }
            State::NothingRendered => true,
            State::NotThere | State::Unknown | State::LeftOver(_) | State::Withdrawn | State::NotKnown(_) => {
                false
            }
        }
    }

    /// How many names are known not to be as the ledger says, where it is all in names.
    pub fn drifted_names(&self) -> Option<usize> {
        let State::There(files) = &self.state else { return None };
        let of_file = |(_, file): &(String, FileDrift)| match file {
            FileDrift::Drifted(names) => Some(names.iter().filter(|name| differs(name)).count()),
            other => other.is_clean().then_some(0),
        };
        files.iter().map(of_file).sum()
    }

    /// Why nobody can tell, if so.
    pub fn reason(&self) -> Option<&str> {
        match &self.state {
            State::NotKnown(reason) => Some(reason),
            _ => None,
        }
    }

    /// Whether nothing came back of it.
    pub fn is_unreachable(&self) -> bool {
        matches!(self.state, State::NotKnown(_))
    }

    /// Whether something is known not to be as the ledger says.
    pub fn is_known_to_differ(&self) -> bool {
        match &self.state {
            State::There(files) => files.iter().any(|(_, file)| match file {
                FileDrift::Drifted(names) => names.iter().any(differs),
                other => !other.is_clean(),
            }),
            State::NotKnown(_) => false,
            _ => !self.is_clean(),
        }
    }

    /// Whether something of it could not be compared: all of it, or a secret that is not readable here.
    pub fn is_partly_unknown(&self) -> bool {
        match &self.state {
            State::There(files) => files.iter().any(|(_, file)| match file {
                FileDrift::Drifted(names) => names.iter().any(|name| !name.waived && !differs(name)),
                _ => false,
            }),
            other => matches!(other, State::NotKnown(_)),
        }
    }

    /// Whether it is there, nothing is known to differ, and not all is known.
    pub fn is_unknown(&self) -> bool {
        matches!(self.state, State::There(_)) && self.is_partly_unknown() && !self.is_known_to_differ()
    }
}

/// Whether a name is known not to be as the ledger says, and that is not waived.
fn differs(name: &Drifted) -> bool {
    !name.waived && name.what != NameDrift::Unreadable
}
