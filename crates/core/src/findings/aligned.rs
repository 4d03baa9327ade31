//! `not-aligned`: stages that must agree, and do not.

use super::checking::Checking;
use super::code::Code;
use super::finding::{Finding, called, whose};
use crate::compare::is_same_text;
use crate::model::{Aligned, Distinct, Ledger, StageId, Subject, Verdict};
use crate::name::Name;
use crate::resolve::{Effective, FieldId, Outcome, Session, Winner};

pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    let unit = ledger.unit(id);
    for aligned in &ledger.aligned {
        for (subject, instance) in bounds.subjects_of(id) {
            let mut stages = aligned.stages.iter().filter(|&&stage| unit.belongs_to(stage, instance));
            let Some(&first) = stages.next() else { continue };
            for &stage in stages.filter(|&&stage| bounds.covers_stage(stage)) {
                of_stages(checking, aligned, subject, (first, stage));
            }
        }
    }
}

fn of_stages(
    checking: &mut Checking<'_, '_, '_>,
    aligned: &Aligned,
    subject: Subject,
    (first, stage): (StageId, StageId),
) {
    let ledger = checking.ledger();
    for slot in ledger.slots(subject).all() {
        let session = &mut *checking.session;
        let [one, other] = [first, stage].map(|stage| FieldId { subject, stage, slot });
        if is_plainly_same(session, one, other) || agree(session, aligned, one, other) {
            continue;
        }
        let (entry, declaration) = ledger.field(subject, slot);
        let about = whose(ledger, session, other, |outcome| !matches!(outcome, Outcome::Missing(..)));
        let (first, here) = (&ledger.stage(first).name, &ledger.stage(stage).name);
        let message = format!(
            "{} in `{here}` differs from that in `{first}`, and the two must agree",
            called(entry, declaration)
        );
        let mut finding = Finding::of_field(ledger, other, about, Code::NotAligned, message);
        let origin = |outcome: Outcome<'_>| match outcome {
            Outcome::Value(effective) => effective.origin.place,
            Outcome::Absent(origin) => origin.place,
            _ => None,
        };
        finding.place = origin(session.outcome(other)).or(origin(session.outcome(one)));
        finding.hides_value |= session.outcome(other).value().is_some_and(Effective::is_secret);
        finding.help = format!(
            "cledger compare @{first} @{here}; let them agree, or name it in `except` of that [[aligned]]"
        );
        checking.tell(other, finding);
    }
}

/// Whether both stages get one and the same setting, which depends on nothing; most fields end here.
fn is_plainly_same(session: &mut Session<'_, '_>, one: FieldId, other: FieldId) -> bool {
    let ledger = session.ledger();
    let mut winner = |field: FieldId| session.winners(field.subject, field.stage)[field.slot.0 as usize];
    match (winner(one), winner(other)) {
        (Winner::Set(one, ..), Winner::Set(other, ..)) => {
            one.place == other.place && one.verdict != Verdict::Open
        }
        (Winner::Default(one, _), Winner::Default(other, _)) => {
            std::ptr::eq(one, other) && one.verdict != Verdict::Open
        }
        (Winner::Nothing, Winner::Nothing) => !ledger.field(one.subject, one.slot).1.derived,
        _ => false,
    }
}

/// Whether two stages agree in a field: by its value, or since one text makes both. Then it is what the
/// text refers to that differs, and that is told where it stands.
fn agree(session: &mut Session<'_, '_>, aligned: &Aligned, one: FieldId, other: FieldId) -> bool {
    let ledger = session.ledger();
    if ledger.field(one.subject, one.slot).1.derived || may_differ(ledger, aligned, one) {
        return true;
    }
    let (left, right) = (session.outcome(one), session.outcome(other));
    match (&left, &right) {
        (Outcome::Value(left), Outcome::Value(right)) => match (left.expose(), right.expose()) {
            (Some(left), Some(right)) => left == right || is_same_text(session, one, other),
            // Not known here.
            _ => true,
        },
        (Outcome::Value(_), Outcome::Absent(_) | Outcome::Unset)
        | (Outcome::Absent(_) | Outcome::Unset, Outcome::Value(_)) => false,
        // What is missing or wrong is a finding of its own.
        _ => true,
    }
}

/// Whether stages may differ in a field: it is excepted, or declared to be of each stage's own.
fn may_differ(ledger: &Ledger, aligned: &Aligned, field: FieldId) -> bool {
    ledger.field(field.subject, field.slot).1.is_meant_to_differ() || !may_share(ledger, aligned, field)
}

/// Whether nothing speaks against one value in all of these stages: it is neither excepted nor to be distinct.
pub(super) fn may_share(ledger: &Ledger, aligned: &Aligned, field: FieldId) -> bool {
    let (entry, declaration) = ledger.field(field.subject, field.slot);
    if declaration.distinct != Distinct::No {
        return false;
    }
    let shared = ledger.slots(field.subject).entry_of(field.slot).0.entry.shared().is_some();
    let owner = ledger.owner(field.subject);
    let (owner, instance) = owner.names();
    let name = declaration.name.as_ref().map(Name::as_str);
    !aligned.except.iter().any(|pattern| {
        pattern.covers_field(entry.name.as_str(), name)
            && (pattern.covers_owner(owner, instance) || shared && pattern.covers_owner("shared", None))
    })
}
