//! Secrets that are still there, where the ledger has something open by now.
//!
//! What is there is compared with what the ledger says today, and that says of each value whether it is a secret.
//! It may have been one when it was brought: then it is one as long as it stays there.

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet};

use cledger_core::drift::{Drifted, FileDrift};
use cledger_core::kept::Kept;
use cledger_core::model::{StageId, Subject};
use cledger_core::resolve::Resolver;
use cledger_core::value::Value;
use cledger_outlets::effect::Masking;
use cledger_outlets::held::{FileThere, Held as There};
use cledger_store::daybook::{Daybook, Wanted};

use crate::reality::looked::Looked;
use crate::reality::masking::secrets_of;
use crate::reality::standing::{State, UnitDrift};
use crate::trouble::Trouble;

/// Takes for a secret what is there where a secret of the unit is part of it.
pub(super) fn by_content(looked: &mut Looked<'_>, resolver: &Resolver<'_>) {
    let stage = looked.place.stage;
    for (look, unit) in looked.looks.iter().zip(&mut looked.units) {
        if !is_open(unit) {
            continue;
        }
        let secrets = secrets_of(resolver, look.subject, stage);
        let masking = Masking::of(secrets.iter().map(|secret| secret.as_str()));
        for (path, file) in files(unit) {
            if let (FileDrift::TextDiffers { has_secret, .. }, Some(There::Files(texts))) =
                (&mut *file, &look.held)
                && let Some(Ok(FileThere { text, .. })) = texts.files.get(path)
            {
                *has_secret = masking.finds(text);
            }
            for name in open_names(file) {
                let text = name.there.as_ref().map(|there| there.expose().to_secret_text());
                if text.is_some_and(|text| masking.finds(&text)) {
                    name.veil();
                }
            }
        }
    }
}

/// What was ever delivered of a unit to a stage as a secret.
#[derive(Default)]
struct Delivered {
    /// The fields, as `ENTRY[.FIELD]`.
    fields: BTreeSet<String>,
    /// The paths of files.
    files: BTreeSet<String>,
}

impl Delivered {
    fn of(book: &mut dyn Daybook, owner: &str, stage: &str) -> Result<Self, Trouble> {
        let wanted = Wanted { beside: Some(false), ..Wanted::of(owner, stage) };
        let mut known = Self::default();
        for entry in book.entries(&wanted, true)? {
            if let Some(digests) = entry.digests()? {
                known.fields.extend(digests.secrets().map(str::to_owned));
                known.files.extend(digests.secret_files().map(str::to_owned));
                continue;
            }
            // Records of before there were digests tell it themselves.
            for record in book.records(&Wanted::numbered(owner, stage, entry.meta.number))? {
                let content = record.packed.unpack(None, |_| None)?;
                let secret = |map: BTreeMap<String, Kept>| {
                    map.into_iter().filter(|(_, kept)| kept.is_secret()).map(|(name, _)| name)
                };
                known.fields.extend(secret(content.values));
                known.files.extend(secret(content.files));
            }
        }
        Ok(known)
    }
}

/// Tells of values that are there whether they are or may be secrets.
pub(crate) struct Veil {
    masking: Masking,
    delivered: Delivered,
}

impl Veil {
    /// Of a unit in a stage; of one that the ledger does not know any more without its subject. Without a daybook
    /// nothing was delivered.
    pub(crate) fn of(
        resolver: &Resolver<'_>,
        subject: Option<Subject>,
        (owner, stage): (&str, StageId),
        book: Option<&mut (dyn Daybook + '_)>,
    ) -> Result<Self, Trouble> {
        let secrets = subject.map(|subject| secrets_of(resolver, subject, stage)).unwrap_or_default();
        let stage = &resolver.ledger().stage(stage).name;
        Ok(Self {
            masking: Masking::of(secrets.iter().map(|secret| secret.as_str())),
            delivered: match book {
                Some(book) => Delivered::of(book, owner, stage.as_str())?,
                None => Delivered::default(),
            },
        })
    }

    /// Whether a value of a field, by its address, is to be hidden.
    pub(crate) fn hides(&self, address: Option<&str>, value: &Value) -> bool {
        address.and_then(field_of).is_some_and(|field| self.delivered.fields.contains(field))
            || self.masking.finds(&value.to_secret_text())
    }
}

/// Takes for a secret what is there where any delivery of the unit to the stage had a secret.
pub(crate) fn by_deliveries<'u>(
    book: &mut dyn Daybook,
    units: impl IntoIterator<Item = &'u mut UnitDrift>,
) -> Result<(), Trouble> {
    let mut known: BTreeMap<(String, String), Delivered> = BTreeMap::new();
    for unit in units.into_iter().filter(|unit| is_open(unit)) {
        let known = match known.entry((unit.owner.clone(), unit.stage.clone())) {
            Entry::Occupied(entry) => entry.into_mut(),
            Entry::Vacant(entry) => entry.insert(Delivered::of(book, &unit.owner, &unit.stage)?),
        };
        for (path, file) in files(unit) {
            if let FileDrift::TextDiffers { has_secret, .. } = file {
                *has_secret |= known.files.contains(path);
            }
            for name in open_names(file) {
                let field = name.address.as_deref().and_then(field_of);
                if field.is_some_and(|field| known.fields.contains(field)) {
                    name.veil();
                }
            }
        }
    }
    Ok(())
}

/// The part of a field's address that names it within its unit: `ENTRY[.FIELD]`.
fn field_of(address: &str) -> Option<&str> {
    address.split_once('/')?.1.split('@').next()
}

/// Whether something else is there than the ledger says that anybody may see so far.
fn is_open(unit: &UnitDrift) -> bool {
    let State::There(files) = &unit.state else { return false };
    files.iter().any(|(_, file)| match file {
        FileDrift::TextDiffers { has_secret, .. } => !has_secret,
        FileDrift::Drifted(names) => names.iter().any(is_open_name),
        _ => false,
    })
}

fn is_open_name(name: &Drifted) -> bool {
    name.there.as_ref().is_some_and(|there| !there.is_secret())
}

fn files(unit: &mut UnitDrift) -> impl Iterator<Item = (&String, &mut FileDrift)> {
    let files = match &mut unit.state {
        State::There(files) => &mut files[..],
        _ => &mut [],
    };
    files.iter_mut().map(|(path, file)| (&*path, file))
}

fn open_names(file: &mut FileDrift) -> impl Iterator<Item = &mut Drifted> {
    let names = match file {
        FileDrift::Drifted(names) => &mut names[..],
        _ => &mut [],
    };
    names.iter_mut().filter(|name| is_open_name(name))
}
