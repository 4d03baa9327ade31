//! Letting readers in.

use cledger_core::cipher::KeyScope;
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_store::{Admitted, Keys, Reader, Recipient, admit as admitted, known_recipient};

use crate::change::{Changing, NO_CHANGE};
use crate::keys::done::{Done, KeyChange, KeysChanged, finish, reader as key_reader, readers, scopes};
use crate::meant::layers;
use crate::trouble::Trouble;

/// Lets a reader in; by the public key that they read other stages by, if none is given.
pub fn admit(
    changing: &Changing,
    name: &Name,
    recipient: Option<&str>,
    asked: &KeyChange,
) -> Result<KeysChanged, Trouble> {
    let layers = layers(changing.ledger(), &asked.stages)?;
    let scopes = scopes(changing.ledger(), &layers);
    let keys = changing.keys(&NO_CHANGE);
    let recipient = match recipient {
        Some(text) => Recipient::parse(text).map_err(|error| Trouble::usage(error.to_string()))?,
        None => recipient_of(&keys, changing.ledger(), name)?,
    };
    let reader = Reader { name: name.clone(), recipient };
    let incoming = key_reader(&reader);
    if let Some(scope) = keys.watch().other_key_of(&reader) {
        let message = format!("`{name}` has another public key for `{scope}`");
        return Err(Trouble::refused(message).help(format!(
            "if it changed, let them out first: cledger key exclude {} @{}",
            name,
            scope.rsplit('/').next().unwrap_or_default()
        )));
    }
    let (changed, admitted) = admitted(&keys, &scopes, &reader)?;
    let mut done = Vec::new();
    for (scope, how) in scopes.into_iter().zip(admitted) {
        let mut known = readers(&keys.key(&scope)?.readers);
        let word = match how {
            Admitted::Now => {
                known.push(incoming.clone());
                known.sort_unstable();
                "let in"
            }
            Admitted::Before => "is a reader already",
        };
        done.push(Done {
            scope,
            readers: known,
            secrets: None,
            reader: Some(name.clone()),
            word,
            renews: false,
            changes: how == Admitted::Now,
        });
    }
    finish(changing, changed, &layers, done, asked)
}

/// The public key of somebody who reads other stages, from key files that can be trusted; never from the list
/// of readers, which anybody can write.
fn recipient_of(keys: &Keys<'_>, ledger: &Ledger, name: &Name) -> Result<Recipient, Trouble> {
    let all: Vec<KeyScope> = ledger.layer_ids().map(|layer| ledger.key_scope(layer)).collect();
    known_recipient(keys, &all, name).ok_or_else(|| {
        let message =
            format!("the public key of `{name}` is in no key file that you can open and have seen before");
        Trouble::usage(message)
            .help("ask them for what `cledger key identity` prints, and add --recipient KEY")
    })
}
