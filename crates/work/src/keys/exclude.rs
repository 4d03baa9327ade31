//! Letting a reader out, with what they may still know.

use std::collections::BTreeMap;

use cledger_core::cipher::KeyScope;
use cledger_core::impact::{Written, users};
use cledger_core::model::{LayerId, Ledger, SettingValue, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{Resolver, Unfetched};
use cledger_core::search::{Conditions, settings};
use cledger_core::source::Place;
use cledger_store::{KeyError, Keys, exclude as excluded};

use crate::change::{Changing, NO_CHANGE};
use crate::deliver::chores::Asked;
use crate::keys::done::{Done, KeyChange, KeysChanged, KnownSecret, finish_asking, readers, scopes};
use crate::meant::layers;
use crate::trouble::Trouble;

/// Lets a reader out, and encrypts everything anew that they could read; of stages that cannot be read here, it says so.
pub fn exclude(changing: &Changing, name: &Name, asked: &KeyChange) -> Result<KeysChanged, Trouble> {
    let ledger = changing.ledger();
    let layers = layers(ledger, &asked.stages)?;
    let keys = changing.keys(&NO_CHANGE);
    let (mut here, mut not_readable) = (Vec::new(), Vec::new());
    for (layer, scope) in layers.iter().zip(scopes(ledger, &layers)) {
        match keys.key(&scope) {
            Err(KeyError::NotAtHand { reason, .. }) if layers.len() > 1 => not_readable.push((scope, reason)),
            _ => here.push((*layer, scope)),
        }
    }
    if here.is_empty() {
        let names: Vec<String> =
            not_readable.iter().map(|(scope, _)| format!("`{}`", scope.name())).collect();
        let message = format!("none of these keys is at hand: {}", names.join(", "));
        return Err(Trouble::refused(message).help("let one of their readers do it"));
    }
    let (layers, scopes): (Vec<LayerId>, Vec<KeyScope>) = here.into_iter().unzip();
    tell_own(changing, &keys, &scopes, name);
    let (changed, counts) = excluded(ledger, &keys, &scopes, name)?;
    let mut done = Vec::new();
    for (scope, count) in scopes.iter().zip(counts) {
        let mut known = readers(&keys.key(scope)?.readers);
        known.retain(|reader| reader.name != *name);
        done.push(Done {
            scope: scope.clone(),
            readers: known,
            secrets: Some(count),
            reader: Some(name.clone()),
            word: "let out",
            renews: true,
            changes: true,
        });
    }
    let known = known(ledger, &scopes);
    let chores = chores(&known, name);
    let excluded = finish_asking(changing, changed, &layers, done, (asked, &chores))?;
    Ok(KeysChanged { known, not_readable, ..excluded })
}

/// What is to be done where somebody gets a secret that the one who was let out may still know.
fn chores(known: &[KnownSecret], name: &Name) -> Asked {
    let mut chores = Asked::new();
    for secret in known {
        let text = format!("give `{}` another value: {name} could read it", secret.address);
        for (owner, stage) in &secret.used_by {
            chores.entry((owner.clone(), stage.clone())).or_default().insert(text.clone());
        }
    }
    chores
}

/// Warns whoever lets themselves out.
fn tell_own(changing: &Changing, keys: &Keys<'_>, scopes: &[KeyScope], name: &Name) {
    let own = keys.identity().recipients().unwrap_or_default();
    let is_own = |scope: &&KeyScope| {
        let file = keys.key(scope).ok();
        file.is_some_and(|file| file.readers.iter().any(|it| it.name == *name && own.contains(&it.recipient)))
    };
    let lost: Vec<String> = scopes.iter().filter(is_own).map(|scope| format!("`{}`", scope.name())).collect();
    if !lost.is_empty() {
        let text =
            format!("`{name}` is you: you could not read the secrets of {} any more.", lost.join(", "));
        changing.opened.at.telling.notice(&text);
    }
}

/// The secrets of these stages and groups, with the units and instances that get them.
fn known(ledger: &Ledger, scopes: &[KeyScope]) -> Vec<KnownSecret> {
    let mut secrets: BTreeMap<Place, KnownSecret> = BTreeMap::new();
    for found in settings(ledger, &Unfetched, &Conditions::default()) {
        let (Written::In(layer), Some(setting)) = (found.written, found.setting) else { continue };
        if matches!(setting.value, SettingValue::Cipher(_)) && scopes.contains(&ledger.key_scope(layer)) {
            let address = found.address(ledger).to_string();
            secrets.insert(setting.place, KnownSecret { address, used_by: Vec::new() });
        }
    }
    let places = secrets.keys().copied().collect();
    for (place, users) in users(&Resolver::new(ledger, &Unfetched, &[]), &places) {
        let names = |(stage, unit, instance)| {
            let owner = ledger.owner(Subject::Unit(unit, instance)).to_string();
            (owner, ledger.stage(stage).name.to_string())
        };
        if let Some(secret) = secrets.get_mut(&place) {
            secret.used_by = users.into_iter().map(names).collect();
        }
    }
    secrets.into_values().collect()
}
