//! What was done, or would be, with keys.

use cledger_core::cipher::KeyScope;
use cledger_core::model::{LayerId, Ledger};
use cledger_core::name::Name;
use cledger_store::{Changed, Keys, Reader, SeenKey, Sight};

use crate::change::{Changing, Concerns, Consent, Planned};
use crate::deliver::chores::{Asked, ask};
use crate::keys::daybook::Resealing;
use crate::trouble::{Kind, Trouble};

/// Whose keys are changed, by whom, and whether that is done.
#[derive(Debug, Clone, Default)]
pub struct KeyChange {
    /// The stages and groups, as `@STAGE`, `@GROUP` or a pattern.
    pub stages: Vec<String>,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

/// What was done, or would be, with the key of a stage or group.
#[derive(Debug, Clone)]
pub struct Done {
    /// Whose key.
    pub scope: KeyScope,
    /// Who reads it afterwards.
    pub readers: Vec<KeyReader>,
    /// How many secrets are encrypted by it, where that is what was done.
    pub secrets: Option<usize>,
    /// The reader who comes or goes.
    pub reader: Option<Name>,
    /// The word for it.
    pub word: &'static str,
    /// Whether the data key is another one afterwards.
    pub renews: bool,
    /// Whether that changes anything.
    pub changes: bool,
}

pub(crate) fn scopes(ledger: &Ledger, layers: &[LayerId]) -> Vec<KeyScope> {
    layers.iter().map(|&layer| ledger.key_scope(layer)).collect()
}

/// A reader, and what tells their public key from others at a glance.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct KeyReader {
    /// What they are called.
    pub name: Name,
    /// The fingerprint of their public key.
    pub fingerprint: String,
}

pub(crate) fn readers(readers: &[Reader]) -> Vec<KeyReader> {
    readers.iter().map(reader).collect()
}

pub(crate) fn reader(reader: &Reader) -> KeyReader {
    KeyReader { name: reader.name.clone(), fingerprint: reader.recipient.fingerprint() }
}

/// A key as it was last seen, and as it is.
#[derive(Debug, Clone)]
pub struct Compared {
    /// Whose key.
    pub scope: KeyScope,
    /// How it stands to that; `None` where it cannot be opened here.
    pub sight: Option<Sight>,
    /// As it was last seen.
    pub before: Option<SeenKey>,
    /// As it is.
    pub now: Option<SeenKey>,
}

/// How a key stands to what was seen of it; `None` where there is nothing of either.
pub(crate) fn compared(keys: &Keys<'_>, scope: &KeyScope) -> Option<Compared> {
    let (watch, before) = (keys.watch(), keys.watch().before(scope).cloned());
    let now = keys.key(scope).ok();
    if before.is_none() && now.is_none() {
        return None;
    }
    let sight = now.as_ref().map(|_| watch.sight_of(scope).unwrap_or(Sight::Same));
    Some(Compared { scope: scope.clone(), sight, before, now: now.map(|file| file.seen()) })
}

/// Writes a change of keys, if that is asked for. Effective values stay.
pub(crate) fn finish(
    changing: &Changing,
    changed: Changed,
    layers: &[LayerId],
    done: Vec<Done>,
    asked: &KeyChange,
) -> Result<KeysChanged, Trouble> {
    finish_asking(changing, changed, layers, done, (asked, &Asked::new()))
}

/// The same, with chores that it leaves to people. They are recorded before anything is written: whoever is
/// interrupted in between is asked for too much, and not for too little.
pub(crate) fn finish_asking(
    changing: &Changing,
    changed: Changed,
    layers: &[LayerId],
    done: Vec<Done>,
    (asked, chores): (&KeyChange, &Asked),
) -> Result<KeysChanged, Trouble> {
    let planned = Planned {
        after: changing.read_after(&changed)?,
        changed,
        effects: Vec::new(),
        concerns: Concerns::All,
        stages: None,
    };
    if asked.write {
        changing.guard(layers, &planned, &asked.consent)?;
        let is_renewal = done.iter().any(|one| one.renews && one.changes);
        let stepping = &changing.opened.at.stepping;
        stepping.before("reseal")?;
        changing.refuse_edited(&planned.changed)?;
        let resealing = if is_renewal { Resealing::start(changing, &planned, layers)? } else { None };
        if !chores.is_empty() {
            stepping.before("ask")?;
            ask(&changing.opened, chores, asked.consent.why.as_deref().unwrap_or_default())?;
        }
        stepping.before("write")?;
        changing.write(&planned)?;
        stepping.before("finish")?;
        if let Some(resealing) = resealing {
            resealing.finish(changing)?;
        }
    }
    Ok(KeysChanged { done, known: Vec::new(), not_readable: Vec::new(), written: asked.write })
}

/// What was done, or would be, with all keys that were meant.
#[derive(Debug)]
pub struct KeysChanged {
    /// One for each stage or group.
    pub done: Vec<Done>,
    /// The secrets that a reader who was let out may still know.
    pub known: Vec<KnownSecret>,
    /// Stages and groups that were passed over, since their keys are not at hand, with the reasons.
    pub not_readable: Vec<(KeyScope, String)>,
    /// Whether it is done.
    pub written: bool,
}

impl KeysChanged {
    /// What kind of trouble there is: something was passed over.
    pub fn kind(&self) -> Option<Kind> {
        (!self.not_readable.is_empty()).then_some(Kind::Found)
    }
}

/// A secret that a reader who was let out may still know.
#[derive(Debug, Clone)]
pub struct KnownSecret {
    /// Its address.
    pub address: String,
    /// The units and instances that get it, be it through references, each with the stage. Where there are some, a
    /// chore is open there.
    pub used_by: Vec<(String, String)>,
}
