//! Encrypting what lies in plain text.

use cledger_core::cipher::Cipher;
use cledger_core::findings::plain_secrets;
use cledger_core::impact::Written;
use cledger_core::model::SettingValue;
use cledger_store::put;

use crate::change::{Changing, NO_CHANGE};
use crate::keys::done::{Done, KeyChange, KeysChanged, finish, readers};
use crate::meant::layers;
use crate::setting::setting_literal;
use crate::trouble::Trouble;

/// Encrypts the secrets that lie in plain text in stages and groups.
pub fn protect(changing: &Changing, asked: &KeyChange) -> Result<KeysChanged, Trouble> {
    let ledger = changing.ledger();
    let wanted = layers(ledger, &asked.stages)?;
    let keys = changing.keys(&NO_CHANGE);
    let (mut edits, mut done, mut touched) = (Vec::new(), Vec::new(), Vec::new());
    let found = plain_secrets(ledger);
    for layer in wanted {
        let scope = ledger.key_scope(layer);
        let file = keys.for_writing(&scope)?;
        let before = edits.len();
        for (one, secret) in found.iter().filter(|(one, _)| one.written == Written::In(layer)) {
            let mut address = one.address(ledger);
            address.stage = None;
            let address = address.to_string();
            let text = file.key.seal(&scope, &address, secret).map_err(cledger_store::KeyError::from)?;
            let cipher = Cipher { text: text.into(), layer, address };
            let note = one.setting.and_then(|setting| setting.note.as_deref()).cloned().unwrap_or_default();
            let text = setting_literal(&SettingValue::Cipher(Box::new(cipher)), &note, None);
            edits.extend(one.place.map(|place| (place, text)));
        }
        let count = edits.len() - before;
        let changes = count > 0;
        let word = if changes { "protected" } else { "nothing in plain text" };
        touched.extend(changes.then_some(layer));
        done.push(Done {
            scope,
            readers: readers(&file.readers),
            secrets: Some(count),
            reader: None,
            word,
            renews: false,
            changes,
        });
    }
    let (any, changed) = (!edits.is_empty(), put(&ledger.files, edits));
    let protected = finish(changing, changed, &touched, done, asked)?;
    if asked.write && any {
        changing.opened.at.telling.notice(
            "They still lie in plain text in the history of version control: change these secrets where they are used.",
        );
    }
    Ok(protected)
}
