//! A unit's part of a document: all of it, or what is below some steps of one that is found in a list or serves
//! several units.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::Duration;

use cledger_core::json::Json;
use zeroize::Zeroizing;

use super::{Document, Documents, Put};
use crate::failure::{Failure, NotBrought};
use crate::held::{DocumentOf, Held};

/// How often a document is looked at again of which somebody else changes another part meanwhile.
const MOST_ROUNDS: u32 = 20;

/// The pause before the second round; each further one is a little longer.
const PAUSE: Duration = Duration::from_millis(20);

/// Whose turn it is at each document of which several units have a part: where it has no entity tag, nothing else keeps
/// two of this program's own writes apart.
static TURNS: Mutex<BTreeMap<String, Arc<Mutex<()>>>> = Mutex::new(BTreeMap::new());

/// What is there of a unit.
struct There {
    /// The address of the document, if that is known.
    url: Option<String>,
    whole: Option<Document>,
    part: Option<Zeroizing<String>>,
}

impl Documents<'_> {
    /// What a unit has there.
    pub(crate) fn held(&self, of: &DocumentOf) -> Held {
        match self.there(of) {
            Ok(There { part: Some(part), whole, .. }) => {
                Held::Document(part, whole.and_then(|whole| whole.version))
            }
            Ok(_) => Held::NotThere,
            Err(failure) => Held::NotKnown(failure.to_string()),
        }
    }

    fn there(&self, of: &DocumentOf) -> Result<There, Failure> {
        let Some(url) = self.find(of)? else { return Ok(There { url: None, whole: None, part: None }) };
        let whole = self.get(&url)?;
        let part = match &whole {
            Some(whole) if of.at.is_empty() => Some(whole.text.clone()),
            Some(whole) => {
                let document = parsed(&whole.text)?;
                // Where it could not be put, that is told before somebody tries.
                let placed = document.clone().with_part(&of.at, Json::Null);
                placed.map_err(|error| Failure::unexpected(error.to_string()))?;
                let part = document.part(&of.at).filter(|part| !matches!(part, Json::Null));
                part.map(|part| Zeroizing::new(part.to_string()))
            }
            None => None,
        };
        Ok(There { url: Some(url), whole, part })
    }

    /// Brings a unit's part there, or takes it off, over what was seen and nothing else; what stands around it stays.
    pub(crate) fn bring(
        &self,
        of: &DocumentOf,
        text: Option<&Zeroizing<String>>,
        seen: Option<(&str, Option<&str>)>,
    ) -> Result<(), NotBrought> {
        let turn = (!of.at.is_empty()).then(|| turn_at(of));
        let _one = turn.as_ref().map(|turn| turn.lock().unwrap_or_else(PoisonError::into_inner));
        for round in 0..MOST_ROUNDS {
            let there = self.there(of).map_err(NotBrought::from)?;
            let version = there.whole.as_ref().and_then(|whole| whole.version.as_deref());
            // What others change around a part is no business of it.
            let is_same = |part: &str, seen: (&str, Option<&str>)| {
                part == seen.0 && (!of.at.is_empty() || version == seen.1)
            };
            let is_as_seen = match (&there.part, seen) {
                (None, None) => true,
                (Some(part), Some(seen)) => is_same(part, seen),
                _ => false,
            };
            if !is_as_seen {
                // An earlier round may have brought it, whatever was answered.
                let is_there = is_same_json(there.part.as_ref(), text);
                return if round > 0 && is_there { Ok(()) } else { Err(NotBrought::ChangedMeanwhile) };
            }
            match self.change_once(of, text, &there)? {
                Put::Taken => return Ok(()),
                Put::ChangedMeanwhile if of.at.is_empty() => break,
                Put::ChangedMeanwhile => thread::sleep(PAUSE * (round + 1)),
            }
        }
        Err(NotBrought::ChangedMeanwhile)
    }

    fn change_once(
        &self,
        of: &DocumentOf,
        text: Option<&Zeroizing<String>>,
        there: &There,
    ) -> Result<Put, NotBrought> {
        let whole = there.whole.as_ref();
        match (text, &there.url, whole) {
            (None, _, None) | (None, None, _) => Ok(Put::Taken),
            (None, Some(url), Some(whole)) if of.at.is_empty() => self.delete(url, whole),
            (None, Some(url), Some(whole)) => {
                let without = parsed(&whole.text)?.without_part(&of.at);
                self.put(url, &Zeroizing::new(without.to_string()), Some(whole))
            }
            (Some(text), Some(url), whole) => self.put(url, &with(of, text, whole)?, whole),
            // Only the service knows its address to be.
            (Some(text), None, _) => self.post(&of.url, &with(of, text, None)?),
        }
    }
}

fn turn_at(of: &DocumentOf) -> Arc<Mutex<()>> {
    let document = format!("{} {}", of.url, of.find.as_deref().unwrap_or_default());
    let mut turns = TURNS.lock().unwrap_or_else(PoisonError::into_inner);
    turns.entry(document).or_default().clone()
}

/// The whole document with a unit's part in it.
fn with(
    of: &DocumentOf,
    text: &Zeroizing<String>,
    whole: Option<&Document>,
) -> Result<Zeroizing<String>, Failure> {
    if of.at.is_empty() {
        return Ok(text.clone());
    }
    let around = match whole {
        Some(whole) => parsed(&whole.text)?,
        None => {
            Json::Object(of.new.iter().map(|(name, text)| (name.into(), Json::Text(text.into()))).collect())
        }
    };
    let with = around.with_part(&of.at, parsed(text)?);
    Ok(Zeroizing::new(with.map_err(|error| Failure::unexpected(error.to_string()))?.to_string()))
}

fn is_same_json(one: Option<&Zeroizing<String>>, other: Option<&Zeroizing<String>>) -> bool {
    let json = |text: &Zeroizing<String>| Json::parse(text).ok();
    match (one, other) {
        (None, None) => true,
        (Some(one), Some(other)) => json(one).is_some_and(|one| json(other) == Some(one)),
        _ => false,
    }
}

fn parsed(text: &str) -> Result<Json, Failure> {
    Json::parse(text).map_err(|error| Failure::unexpected(format!("its document is no JSON: {error}")))
}
