//! What may be otherwise in a stage than it was tested in the stages before.

use std::collections::HashSet;

use crate::compare::is_same_text;
use crate::model::{Slot, StageId, Subject};
use crate::resolve::{FieldId, Session};

/// Whether a field is meant to have another value in a stage than in one before it: its declaration says so, the
/// stage has it for its own, or it is made by the same text of something that is meant to differ.
pub fn may_differ(
    session: &mut Session<'_, '_>,
    (subject, slot): (Subject, Slot),
    (before, stage): (StageId, StageId),
) -> bool {
    let field = |stage: StageId| FieldId { subject, stage, slot };
    let (mut seen, mut todo) = (HashSet::new(), vec![(field(before), field(stage))]);
    while let Some((left, right)) = todo.pop() {
        if !seen.insert((left, right)) {
            continue;
        }
        let ledger = session.ledger();
        let address = ledger.address(right);
        let is_own = ledger.stage(right.stage).own.iter().any(|pattern| pattern.covers(&address));
        if is_own || ledger.field(right.subject, right.slot).1.is_meant_to_differ() {
            return true;
        }
        if !is_same_text(session, left, right) {
            continue;
        }
        let through = |session: &mut Session<'_, '_>, field: FieldId| {
            let outcome = session.outcome(field);
            outcome
                .value()
                .and_then(|value| value.through.as_deref().map(<[FieldId]>::to_vec))
                .unwrap_or_default()
        };
        let (one, other) = (through(session, left), through(session, right));
        if one.len() == other.len() {
            todo.extend(one.into_iter().zip(other));
        }
    }
    false
}
