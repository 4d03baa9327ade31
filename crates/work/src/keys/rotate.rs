//! A new key, and all its secrets encrypted anew.

use cledger_store::rotate as rotated;

use crate::change::{Changing, NO_CHANGE};
use crate::keys::done::{Done, KeyChange, KeysChanged, finish, readers, scopes};
use crate::meant::layers;
use crate::trouble::Trouble;

/// Puts new keys in place of those of stages and groups.
pub fn rotate(changing: &Changing, asked: &KeyChange) -> Result<KeysChanged, Trouble> {
    let layers = layers(changing.ledger(), &asked.stages)?;
    let scopes = scopes(changing.ledger(), &layers);
    let keys = changing.keys(&NO_CHANGE);
    let (changed, counts) = rotated(changing.ledger(), &keys, &scopes)?;
    let mut done = Vec::new();
    for (scope, count) in scopes.into_iter().zip(counts) {
        done.push(Done {
            readers: readers(&keys.key(&scope)?.readers),
            scope,
            secrets: Some(count),
            reader: None,
            word: "rotated",
            renews: true,
            changes: true,
        });
    }
    finish(changing, changed, &layers, done, asked)
}
