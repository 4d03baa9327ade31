//! `key` for programs.

use std::collections::BTreeMap;

use cledger_core::cipher::KeyScope;
use cledger_core::name::Name;
use cledger_store::{SeenKey, Sight};
use serde::Serialize;

use super::FORMAT;
use cledger_work::keys::{Compared, KeyReader, KeysChanged, Listed, OwnIdentity};

#[derive(Debug, Serialize)]
pub(crate) struct IdentityDocument<'i> {
    format: u32,
    file: &'i str,
    made: bool,
    recipients: &'i [String],
}

pub(crate) fn identity(identity: &OwnIdentity) -> IdentityDocument<'_> {
    let OwnIdentity { path, recipients, is_new, written } = identity;
    IdentityDocument { format: FORMAT, file: path, made: *is_new && *written, recipients }
}

#[derive(Debug, Serialize)]
pub(crate) struct DoneDocument<'k> {
    format: u32,
    written: bool,
    keys: Vec<DoneKey<'k>>,
    /// What a reader who was let out may still know.
    known: Vec<KnownDocument<'k>>,
    /// Whose keys are not at hand.
    not_readable: Vec<NotReadable<'k>>,
}

#[derive(Debug, Serialize)]
struct KnownDocument<'k> {
    address: &'k str,
    used_by: Vec<String>,
}

#[derive(Debug, Serialize)]
struct NotReadable<'k> {
    #[serde(flatten)]
    of: Of<'k>,
    reason: &'k str,
}

#[derive(Debug, Serialize)]
struct DoneKey<'k> {
    #[serde(flatten)]
    of: Of<'k>,
    readers: Vec<&'k Name>,
    fingerprints: Fingerprints<'k>,
    secrets: Option<usize>,
    reader: Option<&'k Name>,
    done: &'static str,
}

/// Whose key it is: `stage` or `group`, and its name.
#[derive(Debug, Serialize)]
struct Of<'k> {
    kind: &'static str,
    name: &'k Name,
}

fn of(scope: &KeyScope) -> Of<'_> {
    let kind = match scope {
        KeyScope::Stage(_) => "stage",
        KeyScope::Group(_) => "group",
    };
    Of { kind, name: scope.name() }
}

pub(crate) fn document(changed: &KeysChanged) -> DoneDocument<'_> {
    let keys = changed.done.iter().map(|one| DoneKey {
        of: of(&one.scope),
        readers: one.readers.iter().map(|reader| &reader.name).collect(),
        fingerprints: fingerprints(&one.readers),
        secrets: one.secrets,
        reader: one.reader.as_ref(),
        done: one.word,
    });
    let known = changed.known.iter().map(|it| KnownDocument {
        address: &it.address,
        used_by: it.used_by.iter().map(|(owner, stage)| format!("{owner}@{stage}")).collect(),
    });
    let not_readable =
        changed.not_readable.iter().map(|(scope, reason)| NotReadable { of: of(scope), reason });
    DoneDocument {
        format: FORMAT,
        written: changed.written,
        keys: keys.collect(),
        known: known.collect(),
        not_readable: not_readable.collect(),
    }
}

#[derive(Debug, Serialize)]
pub(crate) struct ListedDocument<'k> {
    format: u32,
    keys: Vec<ListedKey<'k>>,
}

#[derive(Debug, Serialize)]
struct ListedKey<'k> {
    #[serde(flatten)]
    of: Of<'k>,
    key: bool,
    readers: &'k [Name],
    encrypted: usize,
    plain: usize,
    unreadable: Option<&'k str>,
    fingerprints: Fingerprints<'k>,
    /// `same`, `explained`, `first` or `unexplained`; null where the key file cannot be opened here.
    sight: Option<&'static str>,
    reason: Option<&'k str>,
}

/// What tells the public keys of readers from others, by their names.
type Fingerprints<'k> = BTreeMap<&'k Name, &'k str>;

fn fingerprints(readers: &[KeyReader]) -> Fingerprints<'_> {
    readers.iter().map(|reader| (&reader.name, reader.fingerprint.as_str())).collect()
}

fn sight(sight: Option<&Sight>) -> (Option<&'static str>, Option<&str>) {
    match sight {
        None => (None, None),
        Some(Sight::Same) => (Some("same"), None),
        Some(Sight::Explained) => (Some("explained"), None),
        Some(Sight::First) => (Some("first"), None),
        Some(Sight::Unexplained(reason)) => (Some("unexplained"), Some(reason)),
    }
}

#[derive(Debug, Serialize)]
pub(crate) struct ComparedDocument<'k> {
    format: u32,
    #[serde(skip_serializing_if = "Option::is_none")]
    written: Option<bool>,
    keys: Vec<ComparedKey<'k>>,
}

#[derive(Debug, Serialize)]
struct ComparedKey<'k> {
    #[serde(flatten)]
    of: Of<'k>,
    sight: Option<&'static str>,
    reason: Option<&'k str>,
    before: Option<Seen<'k>>,
    now: Option<Seen<'k>>,
}

/// A key at one time.
#[derive(Debug, Serialize)]
struct Seen<'k> {
    key: &'k str,
    generation: u64,
    readers: &'k BTreeMap<Name, String>,
}

fn seen(key: &SeenKey) -> Seen<'_> {
    Seen { key: &key.id, generation: key.generation, readers: &key.readers }
}

pub(crate) fn compared(found: &[Compared], written: Option<bool>) -> ComparedDocument<'_> {
    let keys = found.iter().map(|one| {
        let (sight, reason) = sight(one.sight.as_ref());
        let (before, now) = (one.before.as_ref().map(seen), one.now.as_ref().map(seen));
        ComparedKey { of: of(&one.scope), sight, reason, before, now }
    });
    ComparedDocument { format: FORMAT, written, keys: keys.collect() }
}

pub(crate) fn listed(listed: &[Listed]) -> ListedDocument<'_> {
    let keys = listed.iter().map(|one| {
        let (sight, reason) = sight(one.sight.as_ref());
        ListedKey {
            of: of(&one.scope),
            key: one.has_key,
            readers: &one.readers,
            encrypted: one.encrypted,
            plain: one.plain,
            unreadable: one.unreadable.as_deref(),
            fingerprints: fingerprints(&one.known),
            sight,
            reason,
        }
    });
    ListedDocument { format: FORMAT, keys: keys.collect() }
}
