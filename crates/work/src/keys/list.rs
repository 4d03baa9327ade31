//! Who may read what.

use cledger_core::cipher::KeyScope;
use cledger_core::findings::plain_secrets;
use cledger_core::impact::Written;
use cledger_core::model::SettingValue;
use cledger_core::name::Name;
use cledger_core::resolve::Unfetched;
use cledger_core::search::{self, Conditions};
use cledger_store::{KeyError, Sight, StateError};

use crate::keys::done::{Compared, KeyReader, compared, readers};
use crate::opened::Opened;
use crate::trouble::Trouble;

/// How the secrets of a stage or group stand.
#[derive(Debug, Clone)]
pub struct Listed {
    /// Which one.
    pub scope: KeyScope,
    /// Whether it has a key.
    pub has_key: bool,
    /// Who reads it: by the key file where it can be opened, else by the public list.
    pub readers: Vec<Name>,
    /// The same with the fingerprints of their public keys, where the key file can be opened.
    pub known: Vec<KeyReader>,
    /// How it stands to what was seen of it, where it can be opened.
    pub sight: Option<Sight>,
    /// How many secrets are encrypted.
    pub encrypted: usize,
    /// How many lie in plain text.
    pub plain: usize,
    /// Why they cannot be read here, if they cannot.
    pub unreadable: Option<String>,
}

/// Lists all stages and groups, and remembers how their keys are.
pub fn list(opened: &Opened) -> Result<Vec<Listed>, Trouble> {
    let (ledger, keys) = (&opened.ledger, opened.keys());
    let public = keys.readers()?;
    let plain = plain_secrets(ledger);
    let all = search::settings(ledger, &Unfetched, &Conditions::default());
    let mut listed = Vec::new();
    for layer in ledger.layer_ids() {
        let here = Written::In(layer);
        let is_cipher = |found: &&search::Found<'_>| {
            found.written == here
                && found.setting.is_some_and(|setting| matches!(setting.value, SettingValue::Cipher(_)))
        };
        let scope = ledger.key_scope(layer);
        let mut known = Vec::new();
        let (names, unreadable) = match keys.key(&scope) {
            Ok(file) => {
                known = readers(&file.readers);
                let names: Vec<Name> = known.iter().map(|reader| reader.name.clone()).collect();
                if public.names(&scope) != names {
                    let notice = format!(
                        "keys/readers.toml is not what the key of `{}` says of its readers; the key counts.",
                        scope.name()
                    );
                    opened.at.telling.notice(&notice);
                }
                (names, None)
            }
            Err(KeyError::None(_)) => (Vec::new(), None),
            Err(KeyError::NotAtHand { reason, .. } | KeyError::Broken { reason, .. }) => {
                (public.names(&scope).to_vec(), Some(reason))
            }
            Err(error) => return Err(error.into()),
        };
        listed.push(Listed {
            has_key: keys.has_key(&scope),
            readers: names,
            known,
            sight: keys.watch().sight_of(&scope),
            encrypted: all.iter().filter(is_cipher).count(),
            plain: plain.iter().filter(|(found, _)| found.written == here).count(),
            unreadable,
            scope,
        });
    }
    remember(opened)?;
    Ok(listed)
}

/// All keys, as they were last seen and as they are.
pub fn compare(opened: &Opened) -> Vec<Compared> {
    let (ledger, keys) = (&opened.ledger, opened.keys());
    ledger.layer_ids().filter_map(|layer| compared(keys, &ledger.key_scope(layer))).collect()
}

/// Remembers what was shown, but for keys that nothing explains, and for new ones of production.
fn remember(opened: &Opened) -> Result<(), Trouble> {
    let seen = opened.keys().watch().to_remember();
    if seen.is_empty() {
        return Ok(());
    }
    let state = &opened.at.state;
    match state.remember(&opened.folder, &opened.ledger.name, |known| known.keys.extend(seen)) {
        // Without a place for it nothing is ever remembered.
        Ok(()) | Err(StateError::NoPlace) => Ok(()),
        Err(error) => Err(error.into()),
    }
}
