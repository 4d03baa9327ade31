//! `not-distinct`: one value in two stages that may not have the same.

use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::{Finding, called, whose};
use crate::model::{Class, Distinct, Slot, StageId, Subject};
use crate::resolve::{AtOnce, Effective, FieldId, Outcome};
use crate::value::Value;

pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    let unit = ledger.unit(id);
    let slots = unit.slots.all();
    let wanted = |slot: &Slot| {
        let field = ledger.field(Subject::Unit(id, None), *slot).1;
        field.distinct != Distinct::No && !field.derived
    };
    let slots: Vec<Slot> = slots.filter(wanted).collect();
    if slots.is_empty() {
        return;
    }
    for (subject, instance) in bounds.subjects_of(id) {
        for &slot in &slots {
            let (entry, declaration) = ledger.field(subject, slot);
            let mut seen: Vec<(StageId, Effective<'_>)> = Vec::new();
            for stage in ledger.stage_ids().filter(|&stage| unit.belongs_to(stage, instance)) {
                let field = FieldId { subject, stage, slot };
                if matches!(checking.session.at_once(field), Some(AtOnce::Nothing)) {
                    continue;
                }
                let Outcome::Value(effective) = checking.session.outcome(field) else { continue };
                let says_something = effective.expose().is_some_and(|value| value.as_text() != Some(""));
                if !says_something {
                    continue;
                }
                let class = |stage: StageId| ledger.stage(stage).class;
                let same = seen.iter().find(|(other, known)| {
                    known.expose() == effective.expose()
                        && (declaration.distinct == Distinct::Stages || class(*other) != class(stage))
                });
                if let Some((other, known)) = same
                    && bounds.covers_stage(stage)
                {
                    let referring = if refers_to(&effective, *other) {
                        Some((field, effective.clone(), *other))
                    } else {
                        refers_to(known, stage)
                            .then(|| (FieldId { stage: *other, ..field }, known.clone(), stage))
                    };
                    if let Some((field, referring, to)) = referring {
                        by_reference(checking, field, &referring, to);
                        seen.push((stage, effective));
                        continue;
                    }
                    let production = class(stage) == Class::Production || class(*other) == Class::Production;
                    let severity = if production { Severity::Error } else { Severity::Warning };
                    let about = whose(ledger, checking.session, field, is_value);
                    let at = known.origin.place.map(|place| ledger.files.locate(place).to_string());
                    let message = format!(
                        "{} is the same in `{}` as in `{}` ({}), and may not be",
                        called(entry, declaration),
                        ledger.stage(stage).name,
                        ledger.stage(*other).name,
                        at.unwrap_or_default()
                    );
                    let mut finding = Finding::of_field(ledger, field, about, Code::NotDistinct, message);
                    finding.severity = severity;
                    finding.place = effective.origin.place;
                    finding.hides_value |= effective.is_secret();
                    finding.help = format!("give {} a value of its own", ledger.address(about));
                    checking.tell(field, finding);
                }
                seen.push((stage, effective));
            }
        }
    }
}

/// Whether a value is made of what another stage has.
fn refers_to(effective: &Effective<'_>, other: StageId) -> bool {
    effective.through.iter().any(|fields| fields.to_vec().iter().any(|field| field.stage == other))
}

/// What somebody has written as a reference to another stage is the same on purpose, and is told as that.
fn by_reference(
    checking: &mut Checking<'_, '_, '_>,
    field: FieldId,
    effective: &Effective<'_>,
    other: StageId,
) {
    let ledger = checking.ledger();
    let (entry, declaration) = ledger.field(field.subject, field.slot);
    let about = whose(ledger, checking.session, field, is_value);
    let (here, there) = (&ledger.stage(field.stage).name, &ledger.stage(other).name);
    let message = format!(
        "{} in `{here}` refers to what `{there}` has, and is to be its own",
        called(entry, declaration)
    );
    let mut finding = Finding::of_field(ledger, field, about, Code::PointsAtOtherStage, message);
    finding.severity = Severity::Warning;
    finding.place = effective.origin.place;
    finding.hides_value |= effective.is_secret();
    finding.help = format!("give {} a value of its own, or waive it with the reason", ledger.address(about));
    checking.tell(field, finding);
}

fn is_value(outcome: &Outcome<'_>) -> bool {
    outcome.value().and_then(Effective::expose).is_some_and(|value| *value != Value::text(""))
}
