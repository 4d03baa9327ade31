//! A unit that is there already: which of the names in the files it has, and where they have moved on.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::adopt::{OldField, OldValue};
use cledger_core::json::Json;
use cledger_core::model::{Declaration, Ledger, Slot, StageId, Subject, UnitId, Vary};
use cledger_core::name::Name;
use cledger_core::output::{NameMaker, OutputName};
use cledger_core::render::as_written;
use cledger_core::resolve::{Effective, FieldId, Layer, Outcome, Resolver, Session};
use cledger_core::types::Type;
use cledger_core::value::Value;

use crate::adopt::differing::{Differing, Fate, Takes};
use crate::adopt::files::{Files, Seen};
use crate::adopt::values::Setting;
use crate::meant::DEFAULT;
use crate::shown;

/// What files say of a unit that is there already.
pub(crate) struct Known {
    subject: Subject,
    /// The fields that it has not.
    pub(crate) new: Vec<OldField>,
    /// The fields that it has, with the outputs in which files have them.
    pub(crate) wanted: BTreeMap<usize, Vec<Slot>>,
    /// How many values are the same in both.
    pub(crate) same: usize,
    /// Values that are other ones in the files, with what becomes of them.
    pub(crate) differing: Vec<Differing>,
    /// Those that come from the files.
    pub(crate) changed: Vec<Setting>,
    /// Those of which the ledger keeps its own: the stage, and the output with the name there.
    pub(crate) kept: BTreeSet<(StageId, usize, OutputName)>,
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
    takes: &Takes,
) -> Known {
    let ledger = resolver.ledger();
    let subject = Subject::Unit(unit, None);
    let slots = slots_by_name(ledger, unit, files);
    let mut session = resolver.session(Some(unit));
    let mut known = Known::of(subject);
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
            let before = session.outcome(FieldId { subject, stage: files.stages[0], slot });
            known.judge(ledger, &field, (None, slot), (&before, Ok(value)), takes);
            continue;
        }
        for (&stage, old) in &field.values {
            let outcome = session.outcome(FieldId { subject, stage, slot });
            let effective = outcome.value();
            if effective
                .and_then(Effective::expose)
                .is_some_and(|now| is_same(now, old, declaration.this_type))
            {
                takes.takes(&ledger.address(FieldId { subject, stage, slot }).to_string(), &field);
                known.same += 1;
                continue;
            }
            let value = effective
                .map_or(Ok(()), |now| may_give_way(ledger, now))
                .and_then(|()| value_for(declaration, old));
            known.judge(ledger, &field, (Some(stage), slot), (&outcome, value), takes);
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

impl Known {
    /// Of a unit that is new, so that everything is.
    pub(crate) fn of_nothing(new: Vec<OldField>) -> Self {
        Self { new, ..Self::of(Subject::Shared) }
    }

    /// Of this unit nothing is known yet.
    fn of(subject: Subject) -> Self {
        Self {
            subject,
            new: Vec::new(),
            wanted: BTreeMap::new(),
            same: 0,
            differing: Vec::new(),
            changed: Vec::new(),
            kept: BTreeSet::new(),
            gone: Vec::new(),
        }
    }

    /// What becomes of a value that is another one in the files: in a stage, or in place of the default.
    fn judge(
        &mut self,
        ledger: &Ledger,
        field: &OldField,
        (stage, slot): (Option<StageId>, Slot),
        (before, value): (&Outcome<'_>, Result<Value, String>),
        takes: &Takes,
    ) {
        let Some((first, old)) = field.values.iter().find(|(of, _)| stage.is_none_or(|stage| stage == **of))
        else {
            return;
        };
        let subject = self.subject;
        let mut address = ledger.address(FieldId { subject, stage: *first, slot });
        if stage.is_none() {
            address.stage = Name::parse(DEFAULT).ok();
        }
        let address = address.to_string();
        let is_asked_for = takes.takes(&address, field);
        let effective = before.value();
        let declaration = ledger.field(subject, slot).1;
        let secret = declaration.secret || effective.is_some_and(Effective::is_secret);
        let is_nothing = matches!(before, Outcome::Unset | Outcome::Missing(..));
        let shown = |value: &Value| if secret { shown::MASK.to_owned() } else { shown::one_line(value) };
        let fate = match &value {
            Err(reason) => Fate::Cannot(reason.clone()),
            Ok(_) if is_nothing => Fate::Filled,
            Ok(_) if is_asked_for => Fate::Taken,
            Ok(_) => Fate::Kept,
        };
        if fate.is_kept() {
            for (output, (_, name)) in &field.names {
                let stages = field.values.keys().filter(|of| stage.is_none_or(|stage| stage == **of));
                self.kept.extend(stages.map(|stage| (*stage, *output, name.clone())));
            }
        } else if let Ok(value) = &value {
            self.changed.push(Setting { stage, slot, value: value.clone(), secret });
        }
        self.differing.push(Differing {
            address,
            ledger: match before {
                Outcome::Value(effective) => {
                    Some(effective.expose().map_or_else(|| shown::MASK.to_owned(), shown))
                }
                Outcome::Absent(_) => Some("absent".to_owned()),
                Outcome::Broken(_) => Some("a problem".to_owned()),
                Outcome::Unset | Outcome::Missing(..) => None,
            },
            file: shown(&old.value),
            fate,
        });
    }
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
