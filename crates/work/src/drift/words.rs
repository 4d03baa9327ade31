//! How a unit stands at a place, in words: a line for whatever is not as the ledger says.

use cledger_core::drift::{Drifted, FileDrift, NameDrift};
use cledger_core::value::Held;

use crate::reality::standing::{State, UnitDrift};
use crate::shown::{MASK, Tone, one_line};

/// Something that is not as the ledger says.
#[derive(Debug, Clone)]
pub struct Told {
    /// The file, and the name in it; nothing where it is the unit as a whole.
    pub what: String,
    /// The address of the field, where the ledger knows it.
    pub address: Option<String>,
    /// What the ledger says, and what is there.
    pub sides: [(String, Tone); 2],
    /// How it stands.
    pub word: String,
    /// What that says.
    pub tone: Tone,
}

/// What is told of a unit that is not clean; nothing of one that is.
pub fn told(unit: &UnitDrift) -> Vec<Told> {
    let whole = |word: &str, tone| vec![alone("", word.to_owned(), tone)];
    match &unit.state {
        State::There(files) => files.iter().flat_map(|(path, file)| of_file(path, file)).collect(),
        State::NotThere if unit.is_clean() => Vec::new(),
        State::NotThere => whole("not there", Tone::Bad),
        State::Unknown => whole("there, but not in the ledger", Tone::Bad),
        State::LeftOver(_) => whole("left over: it does not belong there any more", Tone::Bad),
        State::NotKnown(reason) => whole(&format!("not known: {reason}"), Tone::Doubtful),
        State::NothingRendered | State::Withdrawn => Vec::new(),
    }
}

fn alone(what: &str, word: String, tone: Tone) -> Told {
    Told { what: what.to_owned(), address: None, sides: Default::default(), word, tone }
}

fn of_file(path: &str, file: &FileDrift) -> Vec<Told> {
    let whole = |word: &str| vec![alone(path, word.to_owned(), Tone::Bad)];
    match file {
        FileDrift::AsLedger | FileDrift::Theirs => Vec::new(),
        FileDrift::NotThere => whole("not there"),
        FileDrift::LeftOver => whole("left over"),
        FileDrift::Unreadable(reason) => whole(&format!("cannot be read: {reason}")),
        FileDrift::TextDiffers { line, .. } => whole(&format!("differs from line {line} on")),
        FileDrift::Drifted(names) => {
            names.iter().filter(|drifted| !drifted.waived).map(|drifted| of_name(path, drifted)).collect()
        }
    }
}

fn of_name(path: &str, drifted: &Drifted) -> Told {
    let since = drifted.since.map(|since| format!(": {}", since.words())).unwrap_or_default();
    let is_known = drifted.what != NameDrift::Unreadable;
    Told {
        what: format!("{path} {}", drifted.name),
        address: drifted.address.clone(),
        sides: [side(drifted, drifted.expected.as_ref()), side(drifted, drifted.there.as_ref())],
        word: format!("{}{since}", drifted.what.words()),
        tone: if is_known { Tone::Bad } else { Tone::Doubtful },
    }
}

/// A value of one side, where anybody may see it.
fn side(drifted: &Drifted, held: Option<&Held>) -> (String, Tone) {
    match held {
        None => ("none".to_owned(), Tone::Quiet),
        Some(held) => match held.open() {
            Some(value) if !drifted.secret => (one_line(value), Tone::Plain),
            _ => (MASK.to_owned(), Tone::Quiet),
        },
    }
}
