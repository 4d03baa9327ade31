//! Where a unit that is there already says something else than its files, and which of that is taken.

use std::cell::Cell;

use cledger_core::address::Pattern;
use cledger_core::adopt::OldField;
use cledger_core::name::Name;
use cledger_core::output::as_text;

use crate::trouble::Trouble;

/// A value that is another one in the files.
#[derive(Debug, Clone)]
pub struct Differing {
    /// The field, with the stage or `default`.
    pub address: String,
    /// What the ledger says, secrets masked; `None` for nothing.
    pub ledger: Option<String>,
    /// What the file says, secrets masked.
    pub file: String,
    /// What becomes of it.
    pub fate: Fate,
}

/// What becomes of a value that is another one in the files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fate {
    /// It is taken from the file.
    Taken,
    /// The ledger had none, and gets it from the file.
    Filled,
    /// The ledger keeps its own: nobody has asked for that of the file.
    Kept,
    /// The ledger keeps its own, for this reason.
    Cannot(String),
}

impl Fate {
    /// Whether what the file says does not come into the ledger.
    pub fn is_kept(&self) -> bool {
        matches!(self, Fate::Kept | Fate::Cannot(_))
    }
}

/// What somebody wants to be taken from the files.
pub(crate) struct Takes(Vec<Take>);

struct Take {
    text: String,
    /// The name without the stage.
    name: String,
    pattern: Option<Pattern>,
    /// Whether it is the name of something in the files that the unit has.
    is_met: Cell<bool>,
}

impl Takes {
    /// Reads names: fields as `ENTRY[.FIELD][@STAGE]`, patterns of them, or names as they stand in the files.
    pub(crate) fn read(texts: &[String], unit: &Name) -> Self {
        let take = |text: &String| {
            let full = if text.contains('/') { text.clone() } else { format!("{unit}/{text}") };
            Take {
                text: text.clone(),
                name: text.split('@').next().unwrap_or_default().to_owned(),
                pattern: Pattern::parse(&full).ok(),
                is_met: Cell::new(false),
            }
        };
        Self(texts.iter().map(take).collect())
    }

    /// Whether a field's value in a stage, or its default, is asked for.
    pub(crate) fn takes(&self, address: &str, field: &OldField) -> bool {
        let address = cledger_core::address::Address::parse(address).ok();
        let names = || field.names.values().map(|(format, steps)| (steps.join("."), as_text(*format, steps)));
        let mut is_taken = false;
        for take in &self.0 {
            let covers = take.pattern.as_ref().zip(address.as_ref());
            let covers = covers.is_some_and(|(pattern, address)| pattern.covers(address));
            let at = take.text.split_once('@').map(|(_, stage)| stage);
            let is_there = at.is_none_or(|at| {
                address.as_ref().and_then(|it| it.stage.as_ref()).is_some_and(|stage| stage.as_str() == at)
            });
            let is_called =
                is_there && names().any(|(dotted, written)| [dotted, written].contains(&take.name));
            if covers || is_called {
                take.is_met.set(true);
                is_taken = true;
            }
        }
        is_taken
    }

    /// Refuses names that nothing has.
    pub(crate) fn refuse_unmet(&self, unit: &Name) -> Result<(), Trouble> {
        match self.0.iter().find(|take| !take.is_met.get()) {
            None => Ok(()),
            Some(take) => {
                let message = format!("`{}` is nothing in these files that `{unit}` has already", take.text);
                Err(Trouble::usage(message).help("leave --take out to see what differs"))
            }
        }
    }
}
