//! Encrypting anew: secrets that get another place, or another key.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::cipher::{CIPHER_PREFIX, Cipher, KeyScope};
use cledger_core::model::{Ledger, Setting, SettingValue};
use cledger_core::resolve::Opened;
use cledger_core::source::{FileId, Place};

use super::data_key::Sealed;
use super::{KeyError, Keys};
use crate::edit::put;
use crate::tree::Changed;

/// What encrypting anew came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Resealed(pub usize);

/// All cipher texts of a ledger, with the places of the settings that they stand in.
pub(super) fn ciphers(ledger: &Ledger) -> Vec<(&Cipher, Place)> {
    let of_shared = ledger.layers.iter().flat_map(|layer| layer.shared.iter().flatten());
    let of_units = ledger.units.iter().flat_map(|unit| &unit.settings).flat_map(|of_layer| {
        let of_instances = of_layer.instances.iter().flat_map(|(.., settings)| settings);
        of_layer.unit.iter().chain(of_instances)
    });
    of_shared.chain(of_units).filter_map(|setting| Some((cipher_of(setting)?, setting.place))).collect()
}

fn cipher_of(setting: &Setting) -> Option<&Cipher> {
    match &setting.value {
        SettingValue::Cipher(cipher) => Some(cipher),
        SettingValue::Value(_) | SettingValue::Absent | SettingValue::From(_) => None,
    }
}

/// New cipher texts in place of old ones.
#[derive(Default)]
pub(super) struct Replacements(Vec<(Place, String)>);

impl Replacements {
    /// Notes a new text for the old one in the setting at this place.
    pub(super) fn add(&mut self, ledger: &Ledger, at: Place, old: &str, new: String) -> Result<(), KeyError> {
        let source = ledger.files.get(at.file).map_or("", |file| file.text.as_str());
        let said = source.get(at.start as usize..at.end as usize);
        let start = said.and_then(|said| said.find(old)).and_then(|start| u32::try_from(start).ok());
        let start = start.ok_or_else(|| KeyError::Cipher {
            place: ledger.files.locate(at).to_string(),
            reason: "it is written with escapes in it".to_owned(),
        })?;
        let start = at.start + start;
        let end = start + u32::try_from(old.len()).unwrap_or(0);
        self.0.push((Place { start, end, ..at }, new));
        Ok(())
    }

    /// Puts them into the texts of the files of this ledger.
    pub(super) fn make(self, ledger: &Ledger, changed: &mut Changed) {
        changed.extend(put(&ledger.files, self.0));
    }
}

/// Encrypts those secrets anew that stand at another place after a change than before. `changed` are
/// the new texts that lead from the one ledger to the other; they get the new cipher texts.
pub fn reseal(
    (before, old_keys): (&Ledger, &Keys<'_>),
    (after, new_keys): (&Ledger, &Keys<'_>),
    changed: &mut Changed,
) -> Result<Resealed, KeyError> {
    let place = |ledger: &Ledger, cipher: &Cipher| (ledger.key_scope(cipher.layer), cipher.address.clone());
    let mut known: BTreeMap<&str, Vec<&Cipher>> = BTreeMap::new();
    for (cipher, _) in ciphers(before) {
        known.entry(&cipher.text).or_default().push(cipher);
    }
    if known.is_empty() {
        return Ok(Resealed(0));
    }
    let mut replacements = Replacements::default();
    let (mut count, mut not_at_hand) = (0, BTreeSet::new());
    for (cipher, at) in ciphers(after) {
        let here = place(after, cipher);
        let Some(origins) = known.get(cipher.text.as_str()) else { continue };
        if origins.iter().any(|origin| place(before, origin) == here) {
            continue;
        }
        for origin in origins {
            let scope = before.key_scope(origin.layer);
            let secret = match old_keys.open(&scope, origin) {
                Opened::Text(secret) => secret,
                Opened::NoKey => {
                    not_at_hand.insert(scope);
                    break;
                }
                // It was of no use before, and is of none now.
                Opened::Broken(_) => continue,
            };
            let new = new_keys.seal(&here.0, &here.1, &secret)?;
            replacements.add(after, at, &cipher.text, new)?;
            count += 1;
            break;
        }
    }
    match not_at_hand.len() {
        0 => {}
        1 => {
            for scope in not_at_hand {
                old_keys.key(&scope)?;
            }
        }
        _ => return Err(KeyError::SeveralNotAtHand(not_at_hand.into_iter().collect())),
    }
    replacements.make(after, changed);
    Ok(Resealed(count))
}

/// A cipher text of this key that stands in a file and is no setting's value, so that nothing could
/// encrypt it anew.
pub(super) fn left_over(ledger: &Ledger, scope: &KeyScope, key_id: &str) -> Option<String> {
    let of_scope = ciphers(ledger).into_iter().filter(|(cipher, _)| ledger.key_scope(cipher.layer) == *scope);
    let known: BTreeMap<(FileId, u32), u32> =
        of_scope.map(|(_, place)| ((place.file, place.start), place.end)).collect();
    for (number, file) in (0..).zip(&ledger.files.0) {
        for (start, _) in file.text.match_indices(CIPHER_PREFIX) {
            let rest = &file.text[start..];
            let is_part = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
            let text = &rest[..rest.find(|c: char| !is_part(c)).unwrap_or(rest.len())];
            let of_key = Sealed::parse(text).is_ok_and(|sealed| sealed.key_id() == key_id);
            let at = u32::try_from(start).unwrap_or(u32::MAX);
            let before = known.range(..=(FileId(number), at)).next_back();
            let is_setting = before.is_some_and(|((file, _), end)| *file == FileId(number) && at < *end);
            if of_key && !is_setting {
                let place = Place { file: FileId(number), start: at, end: at };
                return Some(ledger.files.locate(place).to_string());
            }
        }
    }
    None
}
