//! How a unit stands at a place, in words: a line for whatever is not as the ledger says, waived or not.

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
    pub sides: [String; 2],
    /// How it stands.
    pub word: String,
    /// What that says.
    pub tone: Tone,
}

/// What is told of a unit: nothing of one that is as the ledger says, and of what is waived as well.
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
        FileDrift::Drifted(names) => names.iter().map(|drifted| of_name(path, drifted)).collect(),
    }
}

fn of_name(path: &str, drifted: &Drifted) -> Told {
    let (word, tone) = how(drifted);
    Told {
        what: format!("{path} {}", drifted.name),
        address: drifted.address.clone(),
        sides: sides(drifted),
        word,
        tone,
    }
}

/// How a name has drifted, and what that says.
pub fn how(drifted: &Drifted) -> (String, Tone) {
    let since = drifted.since.map(|since| format!(": {}", since.words())).unwrap_or_default();
    let word = format!("{}{since}", drifted.what.words());
    match drifted.what {
        _ if drifted.waived => (format!("{word}, waived"), Tone::Quiet),
        NameDrift::Unreadable => (word, Tone::Doubtful),
        _ => (word, Tone::Bad),
    }
}

/// What the ledger says under a name and what is there, secrets masked.
pub fn sides(drifted: &Drifted) -> [String; 2] {
    let shown = |held: Option<&Held>, is_there: bool| match held.and_then(Held::open) {
        Some(value) => one_line(value),
        None if !is_there => "none".to_owned(),
        None if drifted.address.is_some() => MASK.to_owned(),
        None => "(not shown)".to_owned(),
    };
    let in_ledger = !matches!(drifted.what, NameDrift::ExtraThere | NameDrift::NoValueHere);
    // Of what has no value here, nothing may be there either.
    let is_there = match drifted.what {
        NameDrift::MissingThere => false,
        NameDrift::NoValueHere => drifted.there.is_some(),
        NameDrift::Differs | NameDrift::ExtraThere | NameDrift::Unreadable => true,
    };
    [shown(drifted.expected.as_ref(), in_ledger), shown(drifted.there.as_ref(), is_there)]
}
