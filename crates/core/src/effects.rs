//! What a change of the ledger does to effective values: the same ledger before and after, compared.

use std::collections::BTreeSet;

use rayon::prelude::*;
use rustc_hash::FxHashMap;

use crate::address::Address;
use crate::model::{Class, Ledger, SettingValue, Subject};
use crate::name::Name;
use crate::resolve::{Effective, FieldId, Outcome, Resolver, Session, Unread, Winner};
use crate::value::Value;

/// How many steps of values that were not read are followed to compare them.
const DEEPEST: usize = 16;

/// What a field comes to, before or after a change.
#[derive(Debug, Clone, PartialEq)]
pub enum Seen {
    /// This value; `None` for a secret.
    Value(Option<Value>),
    /// Text that is outside the ledger, by what `from` says; `None` where it comes by way of others.
    Outside(Option<String>),
    /// A secret whose key is not at hand.
    Unreadable,
    /// None, on purpose.
    Absent,
    /// None, and none is needed.
    Unset,
    /// None, although one is needed.
    Missing,
    /// None, for these problems, by their codes.
    Problem(Vec<&'static str>),
    /// There is no such field, or it does not belong there.
    NotThere,
}

/// A field whose effective value changes.
#[derive(Debug, Clone, PartialEq)]
pub struct Effect {
    /// The field, in the stage where it changes.
    pub address: Address,
    /// Whether that stage is of class production.
    pub production: bool,
    /// What it came to.
    pub before: Seen,
    /// What it comes to.
    pub after: Seen,
}

/// All fields whose effective value changes from one ledger to another, by unit, stage and field.
/// Units, stages and fields are the same if their names are.
pub fn effects(before: &Resolver<'_>, after: &Resolver<'_>) -> Vec<Effect> {
    effects_for(before, after, None)
}

/// The same for these units alone, where the others are known to keep all their values.
pub fn effects_for(
    before: &Resolver<'_>,
    after: &Resolver<'_>,
    units: Option<&BTreeSet<Name>>,
) -> Vec<Effect> {
    let (old, new) = (before.ledger(), after.ledger());
    let mut names: Vec<&Name> = old.units.iter().chain(&new.units).map(|unit| &unit.name).collect();
    names.sort_unstable();
    names.dedup();
    names.retain(|name| units.is_none_or(|units| units.contains(*name)));
    let of_unit = |name: &&Name| {
        let (old_unit, new_unit) = (old.unit_id(name.as_str()), new.unit_id(name.as_str()));
        let (mut old_session, mut new_session) = (before.session(old_unit), after.session(new_unit));
        let mut found = Vec::new();
        for stage in stage_names(old, new) {
            let mut one: FxHashMap<Address, Compared> =
                of_stage(&mut old_session, name, stage).into_iter().collect();
            let other = of_stage(&mut new_session, name, stage);
            let production = |ledger: &Ledger| {
                ledger.stage_id(stage.as_str()).is_some_and(|id| ledger.stage(id).class == Class::Production)
            };
            let production = production(old) || production(new);
            for (address, after) in other {
                let before = one.remove(&address);
                found.push((address, production, before, Some(after)));
            }
            let mut gone: Vec<_> = one.into_iter().collect();
            gone.sort_by_cached_key(|(address, _)| address.to_string());
            found.extend(gone.into_iter().map(|(address, before)| (address, production, Some(before), None)));
        }
        found.into_iter().filter_map(effect).collect::<Vec<_>>()
    };
    names.par_iter().flat_map_iter(of_unit).collect()
}

/// All fields that do not keep their effective value when something gets another name; `renamed`
/// gives the new address of an old one. Where `units` says which may be concerned, as they are called before and after,
/// the others are passed over.
pub fn effects_of_renaming(
    before: &Resolver<'_>,
    after: &Resolver<'_>,
    renamed: &(dyn Fn(&Address) -> Address + Sync),
    units: Option<[&BTreeSet<Name>; 2]>,
) -> Vec<Effect> {
    let [before_units, after_units] = units.map_or([None, None], |units| units.map(Some));
    let mut old: FxHashMap<Address, Compared> = everything(before, before_units)
        .into_iter()
        .map(|(address, compared)| (renamed(&address), compared))
        .collect();
    let mut found = Vec::new();
    for (address, compared) in everything(after, after_units) {
        let one = old.remove(&address);
        found.extend(effect((address, false, one, Some(compared))));
    }
    let mut gone: Vec<_> = old.into_iter().collect();
    gone.sort_by_cached_key(|(address, _)| address.to_string());
    found.extend(gone.into_iter().filter_map(|(address, one)| effect((address, false, Some(one), None))));
    found
}

/// All fields of all units, or of these, in all stages.
fn everything(resolver: &Resolver<'_>, units: Option<&BTreeSet<Name>>) -> Vec<(Address, Compared)> {
    let ledger = resolver.ledger();
    let of_unit = |unit: &crate::model::Unit| {
        let mut session = resolver.session(ledger.unit_id(unit.name.as_str()));
        let stages = ledger.stages.iter();
        stages.flat_map(|stage| of_stage(&mut session, &unit.name, &stage.name)).collect::<Vec<_>>()
    };
    let meant = ledger.units.par_iter().filter(|unit| units.is_none_or(|units| units.contains(&unit.name)));
    meant.flat_map_iter(of_unit).collect()
}

fn stage_names<'l>(old: &'l Ledger, new: &'l Ledger) -> Vec<&'l Name> {
    let mut names: Vec<&Name> = new.stages.iter().map(|stage| &stage.name).collect();
    for stage in &old.stages {
        if !names.contains(&&stage.name) {
            names.push(&stage.name);
        }
    }
    names
}

/// A value as it counts for being the same, secrets in the open, and as it may be seen.
struct Compared {
    same: Option<Value>,
    secret: bool,
    seen: Seen,
}

type Changed = (Address, bool, Option<Compared>, Option<Compared>);

fn effect((address, production, before, after): Changed) -> Option<Effect> {
    let same = match (&before, &after) {
        (Some(one), Some(other)) => {
            one.seen == other.seen && one.same == other.same && one.secret == other.secret
        }
        _ => false,
    };
    // What was a secret is not shown by a change that says it is none.
    let was_secret = before.as_ref().is_some_and(|before| before.secret);
    let seen = |side: Option<Compared>| side.map_or(Seen::NotThere, |compared| compared.seen);
    let masked =
        |seen: Seen| if was_secret && matches!(seen, Seen::Value(_)) { Seen::Value(None) } else { seen };
    let after = after.map(|compared| Compared { seen: masked(compared.seen), ..compared });
    (!same).then(|| Effect { address, production, before: seen(before), after: seen(after) })
}

/// All fields of a unit and its instances in a stage.
fn of_stage(session: &mut Session<'_, '_>, unit: &Name, stage: &Name) -> Vec<(Address, Compared)> {
    let ledger = session.ledger();
    let (Some(id), Some(stage)) = (ledger.unit_id(unit.as_str()), ledger.stage_id(stage.as_str())) else {
        return Vec::new();
    };
    let unit = ledger.unit(id);
    if !unit.belongs_to(stage, None) {
        return Vec::new();
    }
    let mut found = Vec::new();
    for instance in std::iter::once(None).chain(unit.instances_in(stage).map(Some)) {
        let subject = Subject::Unit(id, instance);
        for slot in ledger.slots(subject).all() {
            let field = FieldId { subject, stage, slot };
            found.push((ledger.address(field), compared(session, field)));
        }
    }
    found
}

fn compared(session: &mut Session<'_, '_>, field: FieldId) -> Compared {
    let plain = |seen| Compared { same: None, secret: false, seen };
    match session.outcome(field) {
        Outcome::Absent(_) => plain(Seen::Absent),
        Outcome::Unset => plain(Seen::Unset),
        Outcome::Missing(..) => plain(Seen::Missing),
        Outcome::Broken(problems) => plain(Seen::Problem(problems.iter().map(|p| p.code.name()).collect())),
        Outcome::Value(effective) => {
            let secret = effective.is_secret();
            if let Some(why) = effective.unread() {
                let source = source(session, field);
                let mut same = made_from(session, &effective, 0);
                same.extend(source.as_deref().map(Value::text));
                let seen = match why {
                    Unread::Outside | Unread::NotTrusted => Seen::Outside(source),
                    Unread::NoKey => Seen::Unreadable,
                };
                return Compared { same: Some(Value::List(same)), secret, seen };
            }
            let same = effective.expose().cloned();
            Compared { seen: Seen::Value(same.clone().filter(|_| !secret)), same, secret }
        }
    }
}

/// What a value that nobody fetched is fetched from, if it is not made from others.
fn source(session: &mut Session<'_, '_>, FieldId { subject, stage, slot }: FieldId) -> Option<String> {
    match session.winners(subject, stage)[slot.0 as usize] {
        Winner::Set(setting, ..) => match &setting.value {
            SettingValue::From(source) => Some(source.0.to_string()),
            SettingValue::Cipher(cipher) => Some(cipher.text.to_string()),
            SettingValue::Value(_) | SettingValue::Absent => None,
        },
        _ => None,
    }
}

/// What a value that was not read is made from, to be compared.
fn made_from(session: &mut Session<'_, '_>, effective: &Effective<'_>, depth: usize) -> Vec<Value> {
    let mut parts = Vec::new();
    for &field in effective.through.iter().flat_map(|fields| fields.iter()) {
        let part = match session.outcome(field) {
            Outcome::Value(part) => match part.expose() {
                Some(value) => value.clone(),
                None if depth < DEEPEST => Value::List(made_from(session, &part, depth + 1)),
                None => continue,
            },
            _ => continue,
        };
        parts.extend(source(session, field).map(|source| Value::text(&source)));
        parts.push(part);
    }
    parts
}
