//! `cledger key list`: who may read what.

use std::path::Path;

use clap::Args;
use cledger_core::cipher::KeyScope;
use cledger_core::findings::plain_secrets;
use cledger_core::impact::Written;
use cledger_core::model::{Ledger, SettingValue};
use cledger_core::name::Name;
use cledger_core::resolve::Unfetched;
use cledger_core::search::{self, Conditions};
use cledger_store::{KeyError, Keys, Scope, Sight, StateError};

use super::{Compared, KeyReader, compared};
use crate::app::App;
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ListArgs {
    /// Show each key as it was last seen here, and as it is now
    #[arg(long)]
    compare: bool,
}

/// How the secrets of a stage or group stand.
pub(crate) struct Listed {
    pub(crate) scope: KeyScope,
    pub(crate) has_key: bool,
    /// By the key file where it can be opened, else by the public list.
    pub(crate) readers: Vec<Name>,
    /// The same with the fingerprints of their public keys, where the key file can be opened.
    pub(crate) known: Vec<KeyReader>,
    /// How it stands to what was seen of it, where it can be opened.
    pub(crate) sight: Option<Sight>,
    pub(crate) encrypted: usize,
    pub(crate) plain: usize,
    /// Why they cannot be read here, if they cannot.
    pub(crate) unreadable: Option<String>,
}

pub(crate) fn run(args: &ListArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let (root, ledger) = app.open(&Scope::Whole)?;
    let keys = app.keys(&root);
    let public = keys.readers()?;
    let plain = plain_secrets(&ledger);
    let all = search::settings(&ledger, &Unfetched, &Conditions::default());
    let mut listed = Vec::new();
    for layer in ledger.layer_ids() {
        let here = Written::In(layer);
        let is_cipher = |found: &&search::Found<'_>| {
            found.written == here
                && found.setting.is_some_and(|setting| matches!(setting.value, SettingValue::Cipher(_)))
        };
        let scope = ledger.key_scope(layer);
        let mut known = Vec::new();
        let (readers, unreadable) = match keys.key(&scope) {
            Ok(file) => {
                known = super::readers(&file.readers);
                let readers: Vec<Name> = known.iter().map(|reader| reader.name.clone()).collect();
                if public.names(&scope) != readers {
                    let notice = format!(
                        "keys/readers.toml is not what the key of `{}` says of its readers; the key counts.",
                        scope.name()
                    );
                    app.console.notice(&notice);
                }
                (readers, None)
            }
            Err(KeyError::None(_)) => (Vec::new(), None),
            Err(KeyError::NotAtHand { reason, .. } | KeyError::Broken { reason, .. }) => {
                (public.names(&scope).to_vec(), Some(reason))
            }
            Err(error) => return Err(error.into()),
        };
        listed.push(Listed {
            has_key: keys.has_key(&scope),
            readers,
            known,
            sight: keys.watch().sight_of(&scope),
            encrypted: all.iter().filter(is_cipher).count(),
            plain: plain.iter().filter(|(found, _)| found.written == here).count(),
            unreadable,
            scope,
        });
    }
    if args.compare {
        let scopes = listed.iter().map(|one| &one.scope);
        let found: Vec<Compared> = scopes.filter_map(|scope| compared(&keys, scope)).collect();
        if app.console.is_json() {
            app.console.document(&json::key::compared(&found, None));
        } else {
            text::key::compared(app.console, &found);
        }
        return Ok(status::CLEAN);
    }
    if app.console.is_json() {
        app.console.document(&json::key::listed(&listed));
    } else {
        text::key::listed(app.console, &listed);
    }
    remember(app, &root, &ledger, &keys)?;
    Ok(status::CLEAN)
}

/// Remembers what was shown, but for keys that nothing explains, and for new ones of production.
fn remember(app: &App<'_>, root: &Path, ledger: &Ledger, keys: &Keys<'_>) -> Result<(), CliError> {
    let seen = keys.watch().to_remember();
    if seen.is_empty() {
        return Ok(());
    }
    match app.state.remember(root, &ledger.name, |known| known.keys.extend(seen)) {
        // Without a place for it nothing is ever remembered.
        Ok(()) | Err(StateError::NoPlace) => Ok(()),
        Err(error) => Err(error.into()),
    }
}
