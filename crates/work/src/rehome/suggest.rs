//! What in an artifact looks as if it belonged to a stage, and is no value of the unit there yet.

use std::collections::BTreeSet;
use std::path::Path;

use cledger_core::address::Address;
use cledger_core::rehome::{Suggestion, Suggestions};
use cledger_core::resolve::FieldId;
use cledger_core::value::Value;
use cledger_formats::{Artifact, stretches};

use super::{LARGEST, cannot_be_read, each, side};
use crate::existing;
use crate::meant::unit_of;
use crate::opened::Opened;
use crate::rendered::not_readable;
use crate::trouble::Trouble;

/// What could become entries.
pub struct Suggested {
    /// Whose entries, and in which stage they would have these values: UNIT[+INSTANCE]@STAGE.
    pub of: Address,
    /// What was found.
    pub suggestions: Vec<Suggestion>,
    /// How many values of the unit are in there already.
    pub known: usize,
    /// The members of an archive that are no text, or are not what their names say.
    pub skipped: Vec<String>,
}

/// The texts that a value consists of.
fn texts(value: &Value, found: &mut BTreeSet<String>) {
    match value {
        Value::List(items) => items.iter().for_each(|item| texts(item, found)),
        Value::Map(map) => map.values().for_each(|item| texts(item, found)),
        other => drop(found.insert(other.to_text().to_string())),
    }
}

/// Looks into an artifact that was exported from a stage.
pub fn suggest(opened: &Opened, file: &Path, from: &Address) -> Result<Suggested, Trouble> {
    let ledger = &opened.ledger;
    let (subject, stage) = side(opened, from)?;
    let bytes = existing::bytes(file, LARGEST).map_err(|error| cannot_be_read(file, &error))?;
    let resolver = opened.resolver();
    let mut session = resolver.session(unit_of(subject));
    let mut known = BTreeSet::new();
    for slot in ledger.slots(subject).all() {
        let outcome = session.outcome(FieldId { subject, stage, slot });
        let Some(effective) = outcome.value() else { continue };
        match effective.expose() {
            Some(value) => texts(value, &mut known),
            None => return Err(not_readable(&[ledger.owner(subject).to_string()], &opened.surroundings, "")),
        }
    }
    let in_use = ledger.entry_names(subject).map(str::to_owned).collect();
    let (mut suggestions, mut skipped) = (Suggestions::default(), Vec::new());
    each(file, &bytes, &mut |member, text| {
        let name = member.map_or_else(|| file.display().to_string(), str::to_owned);
        match text.map(|text| (text, stretches(Artifact::of(&name, text), text))) {
            Some((text, Ok(found))) => suggestions.look(member, text, &found),
            Some((_, Err(error))) if member.is_none() => {
                let message =
                    format!("{name}:{}: this is not what its name says: {}", error.line, error.reason);
                return Err(
                    Trouble::usage(message).help("export it again, or give it a name that does not end so")
                );
            }
            _ => skipped.push(name),
        }
        Ok(())
    })?;
    let (suggestions, known) = suggestions.all(&known, in_use);
    Ok(Suggested { of: from.clone(), suggestions, known, skipped })
}
