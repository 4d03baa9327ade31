//! Keys that are the right ones, whatever was seen before.

use crate::keys::done::{Compared, compared};
use crate::meant::layers;
use crate::opened::Opened;
use crate::trouble::Trouble;

/// Keys that somebody says are the right ones.
#[derive(Debug)]
pub struct KeysTrusted {
    /// Each as it was last seen, and as it is.
    pub keys: Vec<Compared>,
    /// Whether that is remembered.
    pub written: bool,
}

/// Remembers the keys of these stages and groups as the right ones.
pub fn trust_keys(opened: &Opened, stages: &[String], write: bool) -> Result<KeysTrusted, Trouble> {
    let (ledger, keys) = (&opened.ledger, opened.keys());
    let scopes = layers(ledger, stages)?.into_iter().map(|layer| ledger.key_scope(layer));
    let mut found: Vec<Compared> = Vec::new();
    for scope in scopes.filter(|scope| keys.has_key(scope)) {
        // One that cannot be opened cannot be looked at either.
        keys.key(&scope)?;
        found.extend(compared(keys, &scope));
    }
    if found.is_empty() {
        let message = format!("there is no key of {}", stages.join(", "));
        return Err(Trouble::usage(message).help("`cledger key list` shows which there are"));
    }
    if write {
        opened.at.state.remember(&opened.folder, &ledger.name, |known| {
            let now = found.iter().filter_map(|one| Some((one.scope.to_string(), one.now.clone()?)));
            known.keys.extend(now);
        })?;
    }
    Ok(KeysTrusted { keys: found, written: write })
}
