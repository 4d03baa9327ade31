//! `cledger key list`: who may read what.

use clap::Args;
use cledger_core::cipher::KeyScope;
use cledger_core::findings::plain_secrets;
use cledger_core::impact::Written;
use cledger_core::model::SettingValue;
use cledger_core::name::Name;
use cledger_core::resolve::Unfetched;
use cledger_core::search::{self, Conditions};
use cledger_store::{KeyError, Scope};

use super::names;
use crate::app::App;
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ListArgs {}

/// How the secrets of a stage or group stand.
pub(crate) struct Listed {
    pub(crate) scope: KeyScope,
    pub(crate) has_key: bool,
    /// By the key file where it can be opened, else by the public list.
    pub(crate) readers: Vec<Name>,
    pub(crate) encrypted: usize,
    pub(crate) plain: usize,
    /// Why they cannot be read here, if they cannot.
    pub(crate) unreadable: Option<String>,
}

pub(crate) fn run(_args: &ListArgs, app: &mut App<'_>) -> Result<u8, CliError> {
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
        let (readers, unreadable) = match keys.key(&scope) {
            Ok(file) => {
                let readers = names(&file.readers);
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
            encrypted: all.iter().filter(is_cipher).count(),
            plain: plain.iter().filter(|(found, _)| found.written == here).count(),
            unreadable,
            scope,
        });
    }
    if app.console.is_json() {
        app.console.document(&json::key::listed(&listed));
    } else {
        text::key::listed(app.console, &listed);
    }
    Ok(status::CLEAN)
}
