//! What a change of the ledger does to effective values: the same ledger before and after, compared.

mod renaming;
mod shared_texts;

use std::collections::BTreeSet;

use rayon::prelude::*;
use rustc_hash::FxHashMap;

use crate::address::Address;
use crate::model::{
    Class, Declaration, Ledger, Required, SettingValue, StageId, Subject, UNITS_AT_ONCE, Unit, UnitId,
};
use crate::name::Name;
use crate::resolve::{Alike, AtOnce, Effective, FieldId, Outcome, Resolver, Session, Unread, Winner};
use crate::value::{Held, Value};

pub use renaming::effects_of_renaming;
pub use shared_texts::shared_says_the_same;

/// The new address of an old one.
pub type NewAddress<'r> = &'r (dyn Fn(&Address) -> Address + Sync);

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
    effects_for(before, after, None, None)
}

/// The same for these units and stages alone, where others are known to keep all their values.
pub fn effects_for(
    before: &Resolver<'_>,
    after: &Resolver<'_>,
    units: Option<&BTreeSet<Name>>,
    stages: Option<&BTreeSet<Name>>,
) -> Vec<Effect> {
    let (old, new, alike) = (before.ledger(), after.ledger(), Alike::default());
    let mut names: Vec<&Name> = old.units.iter().chain(&new.units).map(|unit| &unit.name).collect();
    names.sort_unstable();
    names.dedup();
    names.retain(|name| units.is_none_or(|units| units.contains(*name)));
    let of_unit = |(old_session, new_session): &mut (Session<'_, '_>, Session<'_, '_>), name: &&Name| {
        let (old_unit, new_unit) = (old.unit_id(name.as_str()), new.unit_id(name.as_str()));
        old_session.move_to(old_unit);
        new_session.move_to(new_unit);
        let have_same_fields =
            old_unit.zip(new_unit).is_some_and(|units| have_same_fields((old, new), units));
        let mut found = Vec::new();
        let is_meant = |stage: &&Name| stages.is_none_or(|stages| stages.contains(*stage));
        for stage in stage_names(old, new).into_iter().filter(is_meant) {
            if have_same_fields && let Some(both) = in_both((old, new), name, stage) {
                found.extend(of_same_fields((old_session, new_session), both, &alike));
                continue;
            }
            let mut one: FxHashMap<Address, Compared> =
                of_stage(old_session, name, stage).into_iter().collect();
            let other = of_stage(new_session, name, stage);
            let production = is_production(old, stage) || is_production(new, stage);
            for (address, after) in other {
                let before = one.remove(&address);
                found.extend(effect((address, production, before, Some(after))));
            }
            let mut gone: Vec<_> = one.into_iter().collect();
            gone.sort_by_cached_key(|(address, _)| address.to_string());
            let gone = gone.into_iter().map(|(address, before)| (address, production, Some(before), None));
            found.extend(gone.filter_map(effect));
        }
        found
    };
    let sessions = || (before.session(None), after.session(None));
    names.par_iter().with_max_len(UNITS_AT_ONCE).map_init(sessions, of_unit).flatten_iter().collect()
}

fn is_production(ledger: &Ledger, stage: &Name) -> bool {
    ledger.stage_id(stage.as_str()).is_some_and(|id| ledger.stage(id).class == Class::Production)
}

/// Whether a unit has the same instances and fields in both ledgers, so that their numbers mean the same.
fn have_same_fields((old, new): (&Ledger, &Ledger), (one, other): (UnitId, UnitId)) -> bool {
    let instances = |unit: &Unit| unit.instances.iter().map(|it| it.name.clone()).collect::<Vec<_>>();
    instances(old.unit(one)) == instances(new.unit(other)) && fields(old, one).eq(fields(new, other))
}

/// The names of the fields that a unit sees, in their order.
fn fields(ledger: &Ledger, unit: UnitId) -> impl Iterator<Item = (&Name, Option<&Name>)> {
    let subject = Subject::Unit(unit, None);
    ledger.slots(subject).all().map(move |slot| {
        let (entry, field) = ledger.field(subject, slot);
        (&entry.name, field.name.as_ref())
    })
}

/// A unit and a stage by their numbers in both ledgers, where it and the same of its instances belong there in both.
fn in_both((old, new): (&Ledger, &Ledger), unit: &Name, stage: &Name) -> Option<[(UnitId, StageId); 2]> {
    let of = |ledger: &Ledger| Some((ledger.unit_id(unit.as_str())?, ledger.stage_id(stage.as_str())?));
    let (one, other) = (of(old)?, of(new)?);
    let belongs = |ledger: &Ledger, (unit, stage)| ledger.unit(unit).belongs_to(stage, None);
    let instances =
        |ledger: &'_ Ledger, (unit, stage)| ledger.unit(unit).instances_in(stage).collect::<Vec<_>>();
    let same = belongs(old, one) && belongs(new, other) && instances(old, one) == instances(new, other);
    same.then_some([one, other])
}

/// What changes of a unit in a stage that has the same fields in both ledgers.
fn of_same_fields(
    (old, new): (&mut Session<'_, '_>, &mut Session<'_, '_>),
    [(old_unit, old_stage), (new_unit, new_stage)]: [(UnitId, StageId); 2],
    alike: &Alike,
) -> Vec<Effect> {
    let stage = &new.ledger().stage(new_stage).name;
    let production = is_production(old.ledger(), stage) || is_production(new.ledger(), stage);
    let mut found = Vec::new();
    for subject in new.ledger().unit_subjects_in(new_unit, new_stage) {
        let Subject::Unit(_, instance) = subject else { continue };
        let was_subject = Subject::Unit(old_unit, instance);
        let shown = old.all_at_once(was_subject, old_stage).into_iter();
        let shown = shown.zip(new.all_at_once(subject, new_stage));
        for (slot, shown) in new.ledger().slots(subject).all().zip(shown) {
            let field = FieldId { subject, stage: new_stage, slot };
            let was = FieldId { subject: was_subject, stage: old_stage, slot };
            found.extend(between((old, new), (was, field), shown, production, alike));
        }
    }
    found
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

/// What shows at once of a field, as it was and as it is.
type Shown<'b, 'a> = (Option<AtOnce<'b>>, Option<AtOnce<'a>>);

/// What changes of a field, as it was and as it is.
fn between<'b, 'a>(
    (old, new): (&mut Session<'_, 'b>, &mut Session<'_, 'a>),
    (was, field): (FieldId, FieldId),
    shown: Shown<'b, 'a>,
    production: bool,
    alike: &Alike,
) -> Option<Effect> {
    if is_plainly_same((old, new), (was, field), shown) || alike.are((old, new), (was, field)) {
        return None;
    }
    let (before, after) = (compared(old, was), compared(new, field));
    if before.is_same_as(&after) {
        return None;
    }
    effect((new.ledger().address(field), production, Some(before), Some(after)))
}

/// Whether a field shows at once that it comes to the same, as most do: what stands as it is and depends on nothing, what
/// nothing is said for, and what is common to all units.
fn is_plainly_same<'b, 'a>(
    (old, new): (&mut Session<'_, 'b>, &mut Session<'_, 'a>),
    (was, field): (FieldId, FieldId),
    shown: Shown<'b, 'a>,
) -> bool {
    let (one, other) =
        (old.ledger().field(was.subject, was.slot).1, new.ledger().field(field.subject, field.slot).1);
    match shown {
        (Some(AtOnce::Written(before, _)), Some(AtOnce::Written(after, _))) => {
            let is_secret = |held: &Held, declaration: &Declaration| held.is_secret() || declaration.secret;
            return is_secret(before, one) == is_secret(after, other) && before.expose() == after.expose();
        }
        // Whether it is needed must not hang on another value.
        (Some(AtOnce::Nothing), Some(AtOnce::Nothing)) => {
            return one.required == other.required && !matches!(one.required, Required::WhenAuth(_));
        }
        _ => {}
    }
    let (Some(before), Some(after)) = (old.value_for_all(was), new.value_for_all(field)) else {
        return false;
    };
    before.is_secret() == after.is_secret() && before.expose().is_some() && before.expose() == after.expose()
}

/// A value as it counts for being the same, secrets in the open, and as it may be seen.
struct Compared {
    same: Option<Value>,
    secret: bool,
    seen: Seen,
}

impl Compared {
    fn is_same_as(&self, other: &Self) -> bool {
        self.seen == other.seen && self.same == other.same && self.secret == other.secret
    }
}

type Changed = (Address, bool, Option<Compared>, Option<Compared>);

fn effect((address, production, before, after): Changed) -> Option<Effect> {
    let same = before.as_ref().zip(after.as_ref()).is_some_and(|(before, after)| before.is_same_as(after));
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
    let mut found = Vec::new();
    for subject in ledger.unit_subjects_in(id, stage) {
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
