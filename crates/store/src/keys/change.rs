//! Making keys, and letting readers in and out: each gives the new texts of all files that change.

use age::secrecy::SecretString;
use cledger_core::cipher::KeyScope;
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::resolve::Opened;

use super::data_key::DataKey;
use super::key_file::{KeyFile, Reader};
use super::readers::READERS;
use super::recipient::Recipient;
use super::reseal::{Replacements, ciphers, left_over};
use super::{KeyError, Keys, key_path};
use crate::tree::Changed;

/// What letting a reader in came to, for one key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Admitted {
    /// They may read now.
    Now,
    /// They could before.
    Before,
}

/// The new texts of key files and of the list of readers.
struct Files<'k, 't> {
    keys: &'k Keys<'t>,
    changed: Changed,
    readers: super::Readers,
}

impl<'k, 't> Files<'k, 't> {
    fn new(keys: &'k Keys<'t>) -> Result<Self, KeyError> {
        Ok(Self { keys, changed: Changed::new(), readers: keys.readers()?.clone() })
    }

    fn put(&mut self, file: &KeyFile) -> Result<(), KeyError> {
        let by_passphrase = file.readers.iter().any(|reader| reader.recipient.is_passphrase());
        let passphrase = if by_passphrase {
            let name = file.scope.name();
            let given = self.keys.identity().passphrase(name.as_str());
            Some(given.ok_or_else(|| KeyError::NotAtHand {
                scope: file.scope.clone(),
                reason: "it is protected by a passphrase, and nobody typed it".to_owned(),
            })?)
        } else {
            None
        };
        self.put_wrapped(file, passphrase)
    }

    fn put_wrapped(&mut self, file: &KeyFile, passphrase: Option<SecretString>) -> Result<(), KeyError> {
        self.changed.insert(key_path(&file.scope), Some(file.wrap(passphrase)?));
        self.keys.watch().make(file);
        self.readers.enter(file);
        Ok(())
    }

    fn finish(mut self) -> Changed {
        self.changed.insert(READERS.to_owned(), self.readers.text());
        self.changed
    }
}

/// Makes keys for stages or groups that have none yet.
pub fn make(
    keys: &Keys<'_>,
    scopes: &[KeyScope],
    readers: &[Reader],
    passphrase: Option<&SecretString>,
) -> Result<Changed, KeyError> {
    let mut files = Files::new(keys)?;
    for scope in scopes {
        if keys.has_key(scope) {
            let message = format!("`{}` has a key already: `{}`", scope.name(), key_path(scope));
            return Err(KeyError::Refused(message));
        }
        let file = KeyFile::new(scope.clone(), DataKey::generate()?, readers.to_vec());
        files.put_wrapped(&file, passphrase.cloned())?;
    }
    Ok(files.finish())
}

/// The public key of a reader, from the key files of these stages and groups that can be opened here and are
/// as they were seen before, or explained by that; never from what anybody can write.
pub fn known_recipient(keys: &Keys<'_>, scopes: &[KeyScope], name: &Name) -> Option<Recipient> {
    scopes.iter().find_map(|scope| {
        let file = keys.key(scope).ok().filter(|file| keys.watch().is_known(file))?;
        let reader = file.readers.iter().find(|reader| reader.name == *name)?;
        Some(reader.recipient.clone()).filter(|recipient| !recipient.is_passphrase())
    })
}

/// Lets a reader in, for each of these keys. The data keys stay.
pub fn admit(
    keys: &Keys<'_>,
    scopes: &[KeyScope],
    reader: &Reader,
) -> Result<(Changed, Vec<Admitted>), KeyError> {
    let mut files = Files::new(keys)?;
    let mut done = Vec::new();
    for scope in scopes {
        let file = keys.for_writing(scope)?;
        if file.readers.iter().any(|known| known.recipient.is_passphrase()) {
            let message = format!(
                "the key of `{}` is protected by a passphrase, so that it has one reader only",
                scope.name()
            );
            return Err(KeyError::Refused(message));
        }
        match file.readers.iter().find(|known| known.name == reader.name) {
            Some(known) if known.recipient == reader.recipient => {
                done.push(Admitted::Before);
                continue;
            }
            Some(_) => {
                let message =
                    format!("`{}` reads `{}` already, with another public key", reader.name, scope.name());
                return Err(KeyError::Refused(message));
            }
            None => {}
        }
        let mut readers = file.readers.clone();
        readers.push(reader.clone());
        readers.sort_by(|one, other| one.name.cmp(&other.name));
        files.put(&file.changed(scope.clone(), readers).ok_or_else(|| KeyError::None(scope.clone()))?)?;
        done.push(Admitted::Now);
    }
    Ok((files.finish(), done))
}

/// Gives stages or groups new data keys, and encrypts all their secrets anew; how many, for each.
pub fn rotate(
    ledger: &Ledger,
    keys: &Keys<'_>,
    scopes: &[KeyScope],
) -> Result<(Changed, Vec<usize>), KeyError> {
    renew(ledger, keys, scopes, None)
}

/// Lets a reader out: as [`rotate`], for all readers but this one. Keys that they do not read stay.
pub fn exclude(
    ledger: &Ledger,
    keys: &Keys<'_>,
    scopes: &[KeyScope],
    name: &Name,
) -> Result<(Changed, Vec<usize>), KeyError> {
    renew(ledger, keys, scopes, Some(name))
}

fn renew(
    ledger: &Ledger,
    keys: &Keys<'_>,
    scopes: &[KeyScope],
    without: Option<&Name>,
) -> Result<(Changed, Vec<usize>), KeyError> {
    let mut files = Files::new(keys)?;
    let mut counts = Vec::new();
    let mut replacements = Replacements::default();
    let known = ciphers(ledger);
    for scope in scopes {
        let old = keys.for_writing(scope)?;
        let readers: Vec<_> =
            old.readers.iter().filter(|reader| Some(&reader.name) != without).cloned().collect();
        if let Some(name) = without {
            if readers.len() == old.readers.len() {
                let names: Vec<&str> = old.readers.iter().map(|reader| reader.name.as_str()).collect();
                let message = format!(
                    "`{name}` is no reader of `{}`; its readers are {}",
                    scope.name(),
                    names.join(", ")
                );
                return Err(KeyError::Refused(message));
            }
            if readers.is_empty() {
                let message =
                    format!("`{name}` is the last reader of `{}`: nobody could read it", scope.name());
                return Err(KeyError::Refused(message));
            }
        }
        if let Some(place) = left_over(ledger, scope, &old.key.id()) {
            let reason = "it stands where no field takes it".to_owned();
            return Err(KeyError::Cipher { place, reason });
        }
        let new = old.renewed(DataKey::generate()?, readers);
        let mut count = 0;
        for (cipher, place) in known.iter().filter(|(cipher, _)| ledger.key_scope(cipher.layer) == *scope) {
            match keys.open(scope, cipher) {
                Opened::Text(secret) => {
                    let text = new.key.seal(scope, &cipher.address, &secret)?;
                    replacements.add(ledger, *place, &cipher.text, text)?;
                }
                Opened::NoKey => return Err(KeyError::None(scope.clone())),
                Opened::Broken(reason) => {
                    let place = ledger.files.locate(*place).to_string();
                    return Err(KeyError::Cipher { place, reason });
                }
            }
            count += 1;
        }
        files.put(&new)?;
        counts.push(count);
    }
    replacements.make(ledger, &mut files.changed);
    Ok((files.finish(), counts))
}

/// Gives a key to what a stage or group is called from now on; to nobody, if it is taken out. Where
/// there is no key, nothing changes.
pub fn move_key(keys: &Keys<'_>, from: &KeyScope, to: Option<&KeyScope>) -> Result<Changed, KeyError> {
    if !keys.has_key(from) {
        return Ok(Changed::new());
    }
    let mut files = Files::new(keys)?;
    files.readers.leave(from);
    if let Some(to) = to {
        let file = keys.for_writing(from)?;
        let moved = file.changed(to.clone(), file.readers.clone());
        files.put(&moved.ok_or_else(|| KeyError::None(from.clone()))?)?;
    }
    files.changed.insert(key_path(from), None);
    Ok(files.finish())
}
