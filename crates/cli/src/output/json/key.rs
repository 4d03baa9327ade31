//! `key` for programs.

use cledger_core::cipher::KeyScope;
use cledger_core::name::Name;
use serde::Serialize;

use super::FORMAT;
use crate::commands::{KeyDone, KeyListed};

#[derive(Debug, Serialize)]
pub(crate) struct IdentityDocument<'i> {
    format: u32,
    file: &'i str,
    made: bool,
    recipients: &'i [String],
}

pub(crate) fn identity<'i>(file: &'i str, recipients: &'i [String], made: bool) -> IdentityDocument<'i> {
    IdentityDocument { format: FORMAT, file, made, recipients }
}

#[derive(Debug, Serialize)]
pub(crate) struct DoneDocument<'k> {
    format: u32,
    written: bool,
    keys: Vec<DoneKey<'k>>,
}

#[derive(Debug, Serialize)]
struct DoneKey<'k> {
    #[serde(flatten)]
    of: Of<'k>,
    readers: &'k [Name],
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

pub(crate) fn document(done: &[KeyDone], written: bool) -> DoneDocument<'_> {
    let keys = done.iter().map(|one| DoneKey {
        of: of(&one.scope),
        readers: &one.readers,
        secrets: one.secrets,
        reader: one.reader.as_ref(),
        done: one.word,
    });
    DoneDocument { format: FORMAT, written, keys: keys.collect() }
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
}

pub(crate) fn listed(listed: &[KeyListed]) -> ListedDocument<'_> {
    let keys = listed.iter().map(|one| ListedKey {
        of: of(&one.scope),
        key: one.has_key,
        readers: &one.readers,
        encrypted: one.encrypted,
        plain: one.plain,
        unreadable: one.unreadable.as_deref(),
    });
    ListedDocument { format: FORMAT, keys: keys.collect() }
}
