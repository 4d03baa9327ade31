//! What becomes of each piece of a folio in another ledger, before anything is written.

use cledger_core::model::Ledger;

use super::came::Came;
use super::piece::{Piece, Texts, likeness, text_of};
use crate::trouble::Trouble;

/// What becomes of a piece.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fate {
    /// The ledger has nothing of that name.
    New,
    /// It says the same as what is here.
    Same,
    /// What is here is as it came, and the folio says something newer.
    Changed,
    /// What is here gives way, since somebody said so.
    Taken,
    /// What is here stays, since somebody said so.
    Kept,
    /// It is not taken in, for this reason.
    LeftOut(String),
    /// Something else of that name is here, for this reason, and somebody has to say what becomes of it.
    Clash(String),
}

/// A piece on its way into a ledger.
#[derive(Debug, Clone)]
pub struct Entering {
    /// Which.
    pub piece: Piece,
    /// What becomes of it.
    pub fate: Fate,
    /// The version that came before, of a unit or bundle.
    pub before: Option<String>,
    /// The version that comes.
    pub version: Option<String>,
}

impl Fate {
    /// Whether it is written.
    pub fn enters(&self) -> bool {
        matches!(self, Self::New | Self::Changed | Self::Taken)
    }
}

/// What somebody says of clashes: patterns of names.
#[derive(Debug, Clone, Default)]
pub(super) struct Choices<'c> {
    pub(super) ours: &'c [String],
    pub(super) theirs: &'c [String],
}

impl Choices<'_> {
    /// Refuses patterns that cover nothing of the folio.
    fn refuse_idle(&self, texts: &Texts) -> Result<(), Trouble> {
        for (option, patterns) in [("--keep-ours", self.ours), ("--take-theirs", self.theirs)] {
            for pattern in patterns {
                if !texts.keys().any(|piece| piece.is_covered(pattern)) {
                    return Err(Trouble::usage(format!("{option} `{pattern}` covers nothing of the folio"))
                        .help("`cledger folio show FILE` lists what is inside"));
                }
            }
        }
        Ok(())
    }
}

/// What becomes of each piece that comes from a ledger of this name.
pub(super) fn fates(
    ledger: &Ledger,
    (came, from): (&Came, &str),
    texts: &Texts,
    choices: &Choices<'_>,
) -> Result<Vec<Entering>, Trouble> {
    choices.refuse_idle(texts)?;
    let entering = |(piece, text): (&Piece, &String)| {
        let is_chosen = |patterns: &[String]| patterns.iter().any(|pattern| piece.is_covered(pattern));
        let fate = match fate(ledger, (came, from), piece, text) {
            Fate::Changed | Fate::Clash(_) if is_chosen(choices.ours) => Fate::Kept,
            Fate::Clash(_) if is_chosen(choices.theirs) => Fate::Taken,
            other => other,
        };
        Entering {
            piece: piece.clone(),
            fate,
            before: came.version(from, piece).map(str::to_owned),
            version: version(piece, text),
        }
    };
    Ok(texts.iter().map(entering).collect())
}

fn fate(ledger: &Ledger, (came, from): (&Came, &str), piece: &Piece, text: &str) -> Fate {
    if let Some(reason) = not_here(ledger, piece, text) {
        return Fate::LeftOut(reason);
    }
    let Some(ours) = text_of(ledger, piece) else {
        let is_taken = match piece {
            // A unit that cannot be read is there all the same.
            Piece::Unit(name) => ledger.broken.of_unit(name.as_str()).next().is_some(),
            _ => false,
        };
        return if is_taken { Fate::Clash("it cannot be read here".to_owned()) } else { Fate::New };
    };
    let (theirs, ours) = (likeness(piece, text), likeness(piece, &ours));
    if theirs == ours {
        return Fate::Same;
    }
    match came.says(from, piece) {
        Some(then) if then == ours => Fate::Changed,
        Some(_) => Fate::Clash("it was changed here since it came".to_owned()),
        None => Fate::Clash("another one of that name is here".to_owned()),
    }
}

/// Why a rule has no place in a ledger: it names stages of another one.
fn not_here(ledger: &Ledger, piece: &Piece, text: &str) -> Option<String> {
    if !matches!(piece, Piece::Rule(_)) {
        return None;
    }
    let rule: toml::Table = text.parse().ok()?;
    let named =
        ["stages", "equal_in", "distinct_in", "absent_in"].into_iter().filter_map(|key| rule.get(key));
    let texts = named.flat_map(|value| match value {
        toml::Value::Array(items) => items.iter().filter_map(toml::Value::as_str).collect(),
        other => other.as_str().into_iter().collect::<Vec<_>>(),
    });
    let mut strange = texts.filter(|text| !text.contains(['*', '?']) && ledger.stage_id(text).is_none());
    strange.next().map(|stage| format!("it names stage {stage}, which is not here"))
}

/// The version that a unit or bundle says.
pub(super) fn version(piece: &Piece, text: &str) -> Option<String> {
    if !matches!(piece, Piece::Unit(_) | Piece::Bundle(_)) {
        return None;
    }
    let table: toml::Table = text.parse().ok()?;
    table.get("version")?.as_str().map(str::to_owned)
}
