//! A unit that is there already: which of the names in the files it has, and where they have moved on.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::adopt::{NotPlaced, OldField, OldValue};
use cledger_core::json::Json;
use cledger_core::model::{Declaration, Ledger, Slot, StageId, Subject, UnitId, Vary};
use cledger_core::output::{NameMaker, OutputName};
use cledger_core::render::as_written;
use cledger_core::resolve::{Effective, FieldId, Layer, Resolver, Session};
use cledger_core::types::Type;
use cledger_core::value::Value;

use crate::adopt::files::{Files, Seen};
use crate::adopt::values::Setting;
use crate::shown;

/// What files say of a unit that is there already.
#[derive(Default)]
pub(crate) struct Known {
    /// The fields that it has not.
    pub(crate) new: Vec<OldField>,
    /// The fields that it has, with the outputs in which files have them.
    pub(crate) wanted: BTreeMap<usize, Vec<Slot>>,
    /// Values that are other ones in the files.
    pub(crate) changed: Vec<Setting>,
    pub(crate) not_placed: Vec<NotPlaced>,
    /// Fields with a value that their file has not, by address and file.
    pub(crate) gone: Vec<(String, usize)>,
}

/// Parts fields into those that the unit has and those that are new.
pub(crate) fn compare(
    resolver: &Resolver<'_>,
    unit: UnitId,
    fields: Vec<OldField>,
    files: &Files,
    names: &[BTreeMap<OutputName, OutputName>],
) -> Known {
    let ledger = resolver.ledger();
    let subject = Subject::Unit(unit, None);
    let slots = slots_by_name(ledger, unit, files);
    let mut session = resolver.session(Some(unit));
    let mut known = Known::default();
    for field in fields {
        let called = |is_known: bool| {
            let of = move |output: &usize| files.outputs[*output].known.is_some() == is_known;
            let names = field.names.iter().filter(move |(output, _)| of(output));
            names.filter_map(|(output, (_, name))| slots[*output].get(name).copied())
        };
        let by_usual_name = called(false).next().filter(|slot| {
            let is_it =
                called(false).all(|other| other == *slot) && called(false).count() == field.names.len();
            is_it && says_the_same(&mut session, (subject, *slot), &field)
        });
        let Some(slot) = called(true).next().or(by_usual_name) else {
            known.new.push(field);
            continue;
        };
        for output in field.names.keys() {
            known.wanted.entry(*output).or_default().push(slot);
        }
        let declaration = ledger.field(subject, slot).1;
        if let Some(value) = new_default(&mut session, (subject, slot), &field, files) {
            known.changed.push(Setting { stage: None, slot, value, secret: false });
            continue;
        }
        for (&stage, old) in &field.values {
            let outcome = session.outcome(FieldId { subject, stage, slot });
            let effective = outcome.value();
            if effective
                .and_then(Effective::expose)
                .is_some_and(|now| is_same(now, old, declaration.this_type))
            {
                continue;
            }
            match effective
                .map_or(Ok(()), |now| may_give_way(ledger, now))
                .and_then(|()| value_for(declaration, old))
            {
                Ok(value) => {
                    let secret = declaration.secret || effective.is_some_and(Effective::is_secret);
                    known.changed.push(Setting { stage: Some(stage), slot, value, secret });
                }
                Err(reason) => known.not_placed.push(NotPlaced::of_field(&field, old.place, reason)),
            }
        }
    }
    for (at, file) in files.old.iter().enumerate() {
        let Some(output) = files.outputs[file.output].known.map(|known| &ledger.unit(unit).outputs[known])
        else {
            continue;
        };
        let in_file: BTreeSet<&OutputName> = names[at].values().collect();
        for (name, slot) in output.names_as_written(ledger, unit) {
            let field = FieldId { subject, stage: file.stage, slot };
            let has_value =
                session.outcome(field).value().is_some_and(|it| output.secrets.takes(it.is_secret()));
            if !in_file.contains(&name) && has_value {
                known.gone.push((ledger.address(field).to_string(), at));
            }
        }
    }
    known
}

/// Whether the files say of a field what the ledger says, in all their stages.
fn says_the_same(session: &mut Session<'_, '_>, (subject, slot): (Subject, Slot), field: &OldField) -> bool {
    let this = session.ledger().field(subject, slot).1.this_type;
    field.values.iter().all(|(&stage, old)| {
        let outcome = session.outcome(FieldId { subject, stage, slot });
        outcome.value().and_then(Effective::expose).is_some_and(|now| is_same(now, old, this))
    })
}

/// The fields of the unit by the names that they have, or would have, in each output: in one that the unit does not
/// have yet, by the usual names of its format.
fn slots_by_name(ledger: &Ledger, unit: UnitId, files: &Files) -> Vec<BTreeMap<OutputName, Slot>> {
    let subject = Subject::Unit(unit, None);
    let of_output = |seen: &Seen| {
        let output = seen.known.map(|known| &ledger.unit(unit).outputs[known]);
        let maker = output.map_or_else(|| NameMaker::usual(seen.format), NameMaker::as_written);
        let slots = ledger.slots(subject).all().filter_map(|slot| {
            let (entry, field) = ledger.field(subject, slot);
            Some((maker.name_of(entry, field).ok()?, slot))
        });
        slots.collect()
    };
    files.outputs.iter().map(of_output).collect()
}

fn is_same(now: &Value, old: &OldValue, this: Type) -> bool {
    let json = now.as_text().filter(|_| this == Type::Json).map(Json::parse);
    match json {
        Some(Ok(json)) if !old.is_bare => json == Json::of_value(&old.value),
        _ if old.is_bare => now.to_text() == old.value.to_text(),
        _ => as_written(now) == old.value,
    }
}

/// The value that all files have in place of a default that counts in all stages of the unit.
fn new_default(
    session: &mut Session<'_, '_>,
    (subject, slot): (Subject, Slot),
    field: &OldField,
    files: &Files,
) -> Option<Value> {
    let ledger = session.ledger();
    let declaration = ledger.field(subject, slot).1;
    let Subject::Unit(unit, _) = subject else { return None };
    let belongs = |stage: &StageId| ledger.unit(unit).belongs_to(*stage, None);
    let all = ledger.stage_ids().filter(belongs).all(|stage| files.stages.contains(&stage));
    let first = field.values.values().next()?;
    let same = field.values.len() == files.stages.len()
        && field.values.values().all(|old| old.value.to_text() == first.value.to_text());
    let has_default = declaration.default.as_ref().is_some_and(|default| default.place.is_some());
    if !(all && same && has_default) || declaration.secret {
        return None;
    }
    for stage in &files.stages {
        let outcome = session.outcome(FieldId { subject, stage: *stage, slot });
        let effective = outcome.value()?;
        if effective.origin.layer != Layer::Default
            || may_give_way(ledger, effective).is_err()
            || effective.expose().is_some_and(|now| is_same(now, first, declaration.this_type))
        {
            return None;
        }
    }
    value_for(declaration, first).ok()
}

/// Whether a file's value may take the place of what counts now, or why not.
fn may_give_way(ledger: &Ledger, now: &Effective<'_>) -> Result<(), String> {
    if let Some(made_from) = shown::made_from(ledger, now) {
        return Err(format!("it is made from {made_from}: change these"));
    }
    if now.expose().is_none() {
        return Err("what the ledger says is not readable here, and may be the same".to_owned());
    }
    Ok(())
}

/// A file's value as the field's type has it, or why that cannot be set.
fn value_for(declaration: &Declaration, old: &OldValue) -> Result<Value, String> {
    if declaration.derived {
        return Err("it is worked out from other fields: change those".to_owned());
    }
    if declaration.vary == Vary::Never {
        return Err("it is the same everywhere (vary = \"never\"), and differs here".to_owned());
    }
    let this = declaration.this_type;
    let value = match this {
        Type::Json => Some(Value::text(&Json::of_value(&old.value).to_string())),
        _ if old.is_bare => this.read(&old.value.to_text()),
        _ => Some(old.value.clone()),
    };
    value.filter(|value| this.fits(value)).ok_or_else(|| format!("it is not {}", this.describe()))
}

/// The stages of settings, each once.
pub(crate) fn stages_of(settings: &[Setting]) -> Vec<StageId> {
    let mut stages: Vec<StageId> = settings.iter().filter_map(|setting| setting.stage).collect();
    stages.sort_unstable();
    stages.dedup();
    stages
}
