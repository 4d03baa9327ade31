//! What a unit has at its outlets, what it is to have there, and whose each difference is.

use cledger_core::delivery::Whose;
use cledger_core::output::OutputName;
use cledger_core::value::Held;

/// One unit at one outlet.
#[derive(Debug)]
pub struct AtOutlet {
    /// The outlet's name.
    pub outlet: String,
    /// Its kind.
    pub kind: &'static str,
    /// The number of the delivery that was last brought there; none where nothing was.
    pub since: Option<u64>,
    /// What was seen.
    pub seen: Seen,
    /// Why it does not take what is to be there, if that can be seen.
    pub refused: Option<String>,
    /// The tables that could not be asked whether they take it, each with the reason.
    pub not_asked: Vec<String>,
    /// Whether what was last brought there is not in effect, and has to be taken up once more.
    pub not_in_effect: bool,
}

/// What was seen of a unit at an outlet.
#[derive(Debug)]
pub enum Seen {
    /// What it has there: its files, or the one thing that it has.
    Parts(Vec<AtPart>),
    /// Nobody can tell, for this reason.
    NotKnown(String),
    /// Nothing is ever brought there.
    OnlyLookedAt,
    /// Its place is this other unit's by now, and nothing of it is taken off.
    HandedOn(String),
}

/// One file, document or scope of rows.
#[derive(Debug)]
pub struct AtPart {
    /// The file's path; none where the outlet has one thing for each unit.
    pub path: Option<String>,
    /// Whether there is such a thing.
    pub is_there: bool,
    /// Whether there is to be one.
    pub will_be_there: bool,
    /// What else is to be told of it.
    pub note: Option<PartNote>,
    /// The names that change, and those that stay although they are not as they are to be.
    pub names: Vec<AtName>,
}

/// What is told of a file or a thing that has all values that it is to have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PartNote {
    /// They are written in another way: comments, their order.
    OtherwiseWritten,
    /// It was there before anything was brought.
    ThereBefore,
}

/// A name that is not as it is to be.
#[derive(Debug)]
pub struct AtName {
    /// The name; none for the whole file.
    pub name: Option<OutputName>,
    /// The field's address, where the ledger knows it.
    pub address: Option<String>,
    /// The value that is there.
    pub there: Option<Held>,
    /// The value that is to be there.
    pub will: Option<Held>,
    /// Whose the value there is.
    pub whose: Whose,
    /// Why it stays as it is there, if it does.
    pub stays: Option<Stays>,
}

/// Why a name stays as it is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stays {
    /// Somebody said so for this once.
    Left,
    /// Only other fields are brought.
    NotMeant,
    /// The difference is waived.
    Waived,
}

impl AtOutlet {
    /// Its parts; none where nothing could be seen.
    pub fn parts(&self) -> &[AtPart] {
        match &self.seen {
            Seen::Parts(parts) => parts,
            Seen::NotKnown(_) | Seen::OnlyLookedAt | Seen::HandedOn(_) => &[],
        }
    }

    /// Why nothing can be brought there, if so: nobody can tell what is there, or it does not take what is to be.
    pub fn reason(&self) -> Option<&str> {
        match &self.seen {
            Seen::NotKnown(reason) => Some(reason),
            Seen::Parts(_) | Seen::OnlyLookedAt | Seen::HandedOn(_) => self.refused.as_deref(),
        }
    }

    /// Whether nothing has to be brought.
    pub fn is_as_it_should_be(&self) -> bool {
        match &self.seen {
            Seen::Parts(parts) => self.refused.is_none() && parts.iter().all(AtPart::is_as_it_should_be),
            Seen::NotKnown(_) => false,
            Seen::OnlyLookedAt | Seen::HandedOn(_) => true,
        }
    }

    /// Whether nothing has to be brought or taken up, and nothing stays that is not as it is to be.
    pub fn is_exact(&self) -> bool {
        self.is_as_it_should_be() && self.staying() == 0 && !self.not_in_effect
    }

    /// How many names stay as they are there.
    pub fn staying(&self) -> usize {
        self.parts().iter().flat_map(|part| &part.names).filter(|name| name.stays.is_some()).count()
    }

    /// The names that somebody has changed there, or that were there before, and that would be lost.
    pub fn blocking(&self) -> impl Iterator<Item = (&AtPart, &AtName)> {
        self.parts().iter().flat_map(|part| {
            part.names.iter().filter(|name| name.is_blocking()).map(move |name| (part, name))
        })
    }
}

impl AtPart {
    /// Whether nothing of it changes.
    pub fn is_as_it_should_be(&self) -> bool {
        self.names.iter().all(|name| name.stays.is_some())
    }
}

impl AtName {
    /// Whether what is there would be lost, and is not ours.
    pub fn is_blocking(&self) -> bool {
        self.stays.is_none() && self.whose != Whose::Ours
    }

    /// The name as it is shown: its steps joined with dots.
    pub fn shown(&self) -> Option<String> {
        self.name.as_ref().map(|steps| steps.join("."))
    }
}
