//! Whether a key file is the one that was seen last, follows from it, or is somebody else's work.
//!
//! Whoever can commit to a ledger can put any key file there: one of their own, or one from the past. So what
//! the user's state remembers of a key decides whether new secrets are written under it. A change is explained
//! by a proof inside the key file, made with the link of the data key that was seen ([`super::key_file`]).

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::sync::{Mutex, PoisonError};

use cledger_core::cipher::KeyScope;

use super::KeyError;
use super::key_file::{KeyFile, Reader};
use crate::state::SeenKey;

/// How a key file stands to what was seen of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sight {
    /// It is as it was.
    Same,
    /// Somebody who could read the key before has changed it.
    Explained,
    /// Nobody has seen one yet.
    First,
    /// It is neither, for this reason.
    Unexplained(String),
}

/// What was seen of keys before, and what is seen now.
#[derive(Default)]
pub struct Watch {
    before: BTreeMap<String, SeenKey>,
    /// The stages and groups for which a key that nobody has seen yet is not written under.
    careful: BTreeSet<KeyScope>,
    now: Mutex<BTreeMap<KeyScope, (Sight, SeenKey)>>,
    /// Key files that this program has made, and that are not written yet.
    made: Mutex<BTreeMap<KeyScope, SeenKey>>,
}

impl fmt::Debug for Watch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Watch").field("before", &self.before).finish_non_exhaustive()
    }
}

impl Watch {
    /// Watches with what is remembered, and `careful` with these stages and groups.
    pub fn new(before: BTreeMap<String, SeenKey>, careful: BTreeSet<KeyScope>) -> Self {
        Self { before, careful, ..Self::default() }
    }

    /// What was seen of a key before.
    pub fn before(&self, scope: &KeyScope) -> Option<&SeenKey> {
        self.before.get(&scope.to_string())
    }

    /// Looks at a key file that was opened.
    pub(super) fn see(&self, file: &KeyFile) {
        let seen = (self.sight(file), file.seen());
        self.now.lock().unwrap_or_else(PoisonError::into_inner).insert(file.scope.clone(), seen);
    }

    /// Notes a key file that is about to be written.
    pub(super) fn make(&self, file: &KeyFile) {
        self.made.lock().unwrap_or_else(PoisonError::into_inner).insert(file.scope.clone(), file.seen());
    }

    /// Whether this program has just made a key file.
    pub(super) fn is_made(&self, file: &KeyFile) -> bool {
        let made = self.made.lock().unwrap_or_else(PoisonError::into_inner);
        made.get(&file.scope).is_some_and(|made| *made == file.seen())
    }

    fn sight(&self, file: &KeyFile) -> Sight {
        if let Some(reason) = self.other_reader(file) {
            return Sight::Unexplained(reason);
        }
        let Some(before) = self.before(&file.scope) else { return Sight::First };
        let now = file.seen();
        if now.generation < before.generation {
            return Sight::Unexplained(format!(
                "it is of generation {}, and generation {} was seen before: it comes from the past",
                now.generation, before.generation
            ));
        }
        if now == *before {
            return Sight::Same;
        }
        if file.follows(before) {
            return Sight::Explained;
        }
        let whoever = "nobody who could read the key that was seen before has made it";
        Sight::Unexplained(format!("{whoever} (key {}, now {})", before.id, now.id))
    }

    /// The stage or group of whose key somebody of this name is a reader with another public key.
    pub fn other_key_of(&self, reader: &Reader) -> Option<&str> {
        let recipient = reader.recipient.to_string();
        let is_other = |seen: &SeenKey| {
            let known = seen.readers.get(&reader.name);
            known.is_some_and(|known| *known != recipient && known != super::PASSPHRASE)
        };
        self.before.iter().find(|(_, seen)| is_other(seen)).map(|(scope, _)| scope.as_str())
    }

    /// A reader who is known by another public key, from the key of another stage or group.
    fn other_reader(&self, file: &KeyFile) -> Option<String> {
        let own = file.scope.to_string();
        for reader in file.readers.iter().filter(|reader| !reader.recipient.is_passphrase()) {
            let recipient = reader.recipient.to_string();
            let other = self.before.iter().find(|(scope, seen)| {
                let known = seen.readers.get(&reader.name);
                **scope != own && known.is_some_and(|known| *known != recipient && known != super::PASSPHRASE)
            });
            if let Some((scope, _)) = other {
                return Some(format!(
                    "its reader `{}` has another public key there than for `{scope}`",
                    reader.name
                ));
            }
        }
        None
    }

    /// Refuses to write under a key file that is not the one that it should be.
    pub(super) fn grant(&self, file: &KeyFile) -> Result<(), KeyError> {
        let scope = || file.scope.clone();
        match self.sight(file) {
            Sight::Same | Sight::Explained => Ok(()),
            Sight::First if !self.careful.contains(&file.scope) => Ok(()),
            Sight::First => Err(KeyError::FirstSight { scope: scope(), readers: file.listed() }),
            Sight::Unexplained(reason) => Err(KeyError::Unexplained { scope: scope(), reason }),
        }
    }

    /// Whether a key file is the one that was seen, or explained by it.
    pub(super) fn is_known(&self, file: &KeyFile) -> bool {
        matches!(self.sight(file), Sight::Same | Sight::Explained)
    }

    /// How the key file of a stage or group stands, if it was opened.
    pub fn sight_of(&self, scope: &KeyScope) -> Option<Sight> {
        let now = self.now.lock().unwrap_or_else(PoisonError::into_inner);
        now.get(scope).map(|(sight, _)| sight.clone())
    }

    /// What was seen of keys by now, but for those that are as they were.
    pub fn news(&self) -> Vec<(KeyScope, Sight, SeenKey)> {
        let now = self.now.lock().unwrap_or_else(PoisonError::into_inner);
        let news = now.iter().filter(|(_, (sight, _))| *sight != Sight::Same);
        news.map(|(scope, (sight, seen))| (scope.clone(), sight.clone(), seen.clone())).collect()
    }

    /// What is to be remembered once a change is written: keys that were made, and those seen that are
    /// explained, or new where one need not be careful.
    pub fn to_remember(&self) -> BTreeMap<String, SeenKey> {
        let now = self.now.lock().unwrap_or_else(PoisonError::into_inner);
        let made = self.made.lock().unwrap_or_else(PoisonError::into_inner);
        let good = now.iter().filter(|(scope, (sight, _))| match sight {
            Sight::Same | Sight::Explained => true,
            Sight::First => !self.careful.contains(scope),
            Sight::Unexplained(_) => false,
        });
        let seen = good.map(|(scope, (_, seen))| (scope.to_string(), seen.clone()));
        seen.chain(made.iter().map(|(scope, seen)| (scope.to_string(), seen.clone()))).collect()
    }
}
