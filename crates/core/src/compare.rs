//! Comparing two stages, or a unit in two stages.

mod named;

use std::collections::{BTreeMap, BTreeSet, HashSet};

use compact_str::CompactString;
use rayon::prelude::*;

pub use named::{Named, NamedCompared, mark_meant, named};

use crate::model::{Ledger, Slot, StageId, Subject, UNITS_AT_ONCE};
use crate::resolve::{Effective, FieldId, Outcome, Resolver, Session, Winner};
use crate::value::Value;

/// How a field stands in two places.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Difference {
    /// The same value, or none in both.
    Same,
    /// Two values, and that is meant.
    AsMeant,
    /// Two values.
    Differs,
    /// Two values of which one cannot be read here, so that nobody can tell.
    Unknown,
    /// A value only in the first.
    OnlyLeft,
    /// A value only in the second.
    OnlyRight,
}

/// One field in two places.
#[derive(Debug, Clone)]
pub struct Compared<'l> {
    /// The field in the first.
    pub left: FieldId,
    /// The field in the second.
    pub right: FieldId,
    /// How they stand to each other.
    pub difference: Difference,
    /// Whether a value on one side only is meant: the other side is absent on purpose.
    pub absent_on_purpose: bool,
    /// The value in the first.
    pub left_value: Option<Effective<'l>>,
    /// The value in the second.
    pub right_value: Option<Effective<'l>>,
}

impl Compared<'_> {
    /// Whether somebody should look at it.
    pub fn is_unmeant(&self) -> bool {
        match self.difference {
            Difference::Same | Difference::AsMeant | Difference::Unknown => false,
            Difference::Differs => true,
            Difference::OnlyLeft | Difference::OnlyRight => !self.absent_on_purpose,
        }
    }
}

/// A unit or instance in two places.
#[derive(Debug, Clone)]
pub enum SubjectCompared<'l> {
    /// It is in both: its fields, by slot.
    Both(Subject, Vec<Compared<'l>>),
    /// It belongs only to the first stage.
    OnlyLeft(Subject),
    /// It belongs only to the second.
    OnlyRight(Subject),
}

/// How a row stands in two lookup tables.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RowDifference {
    /// It has other cells.
    Differs,
    /// It is only in the first.
    OnlyLeft,
    /// It is only in the second.
    OnlyRight,
}

/// The rows of two lookup tables that are not the same, by key.
pub fn rows<'v>(
    left: &'v Value,
    right: &'v Value,
) -> Vec<(&'v str, Option<&'v Value>, Option<&'v Value>, RowDifference)> {
    let (Value::Map(left), Value::Map(right)) = (left, right) else { return Vec::new() };
    let keys: BTreeSet<&str> = left.keys().chain(right.keys()).map(CompactString::as_str).collect();
    let compare = |key: &'v str| {
        let (one, other) = (left.get(key), right.get(key));
        let difference = match (one, other) {
            (Some(one), Some(other)) if one == other => return None,
            (Some(_), Some(_)) => RowDifference::Differs,
            (Some(_), None) => RowDifference::OnlyLeft,
            (None, _) => RowDifference::OnlyRight,
        };
        Some((key, one, other, difference))
    };
    keys.into_iter().filter_map(compare).collect()
}

/// Compares the fields of two subjects of one unit.
pub fn fields<'l>(
    session: &mut Session<'_, 'l>,
    (left, left_stage): (Subject, StageId),
    (right, right_stage): (Subject, StageId),
) -> Vec<Compared<'l>> {
    let slots = session.ledger().slots(left).all();
    let ids = |slot: Slot| {
        (
            FieldId { subject: left, stage: left_stage, slot },
            FieldId { subject: right, stage: right_stage, slot },
        )
    };
    slots.map(ids).map(|(left, right)| field(session, left, right)).collect()
}

/// Compares the units and instances of two stages that are meant, by name.
pub fn stages<'l>(
    resolver: &Resolver<'l>,
    (left, right): (StageId, StageId),
    is_meant: &dyn Fn(Subject) -> bool,
) -> Vec<SubjectCompared<'l>> {
    let ledger = resolver.ledger();
    let mut subjects: BTreeMap<Subject, (bool, bool)> = BTreeMap::new();
    ledger.subjects_in(left).for_each(|subject| subjects.entry(subject).or_default().0 = true);
    ledger.subjects_in(right).for_each(|subject| subjects.entry(subject).or_default().1 = true);
    subjects.retain(|&subject, _| is_meant(subject));
    let compare = |session: &mut Session<'_, 'l>, (subject, sides)| match sides {
        (true, false) => SubjectCompared::OnlyLeft(subject),
        (false, _) => SubjectCompared::OnlyRight(subject),
        (true, true) => {
            if let Subject::Unit(unit, _) = subject {
                session.move_to(unit);
            }
            SubjectCompared::Both(subject, fields(session, (subject, left), (subject, right)))
        }
    };
    let subjects: Vec<_> = subjects.into_iter().collect();
    subjects
        .into_par_iter()
        .with_max_len(UNITS_AT_ONCE)
        .map_init(|| resolver.session(None), compare)
        .collect()
}

fn field<'l>(session: &mut Session<'_, 'l>, left: FieldId, right: FieldId) -> Compared<'l> {
    let (one, other) = (session.outcome(left), session.outcome(right));
    let difference = match (one.value(), other.value()) {
        (None, None) => Difference::Same,
        (Some(_), None) => Difference::OnlyLeft,
        (None, Some(_)) => Difference::OnlyRight,
        (Some(a), Some(b)) => match (a.expose(), b.expose()) {
            (Some(a), Some(b)) if a == b => Difference::Same,
            (Some(_), Some(_)) if is_meant(session, left, right) => Difference::AsMeant,
            (Some(_), Some(_)) => Difference::Differs,
            _ if a.through.is_none() && is_same_text(session, left, right) => Difference::Same,
            _ => Difference::Unknown,
        },
    };
    let absent = |outcome: &Outcome<'_>| matches!(outcome, Outcome::Absent(_));
    Compared {
        left,
        right,
        difference,
        absent_on_purpose: absent(&one) || absent(&other),
        left_value: one.value().cloned(),
        right_value: other.value().cloned(),
    }
}

/// Whether two values that differ are meant to: the declaration says so, or both are made by the
/// same text, and all that differs below it is meant to differ.
fn is_meant(session: &mut Session<'_, '_>, left: FieldId, right: FieldId) -> bool {
    let ledger = session.ledger();
    let mut seen = HashSet::new();
    let mut todo = vec![(left, right)];
    while let Some((left, right)) = todo.pop() {
        if !seen.insert((left, right)) || declared_to_differ(ledger, left) {
            continue;
        }
        let (one, other) = (session.outcome(left), session.outcome(right));
        let (one, other) = match (one.value(), other.value()) {
            (None, None) => continue,
            (Some(one), Some(other)) => (one, other),
            _ => return false,
        };
        if one.expose().is_some() && one.expose() == other.expose() {
            continue;
        }
        if !is_same_text(session, left, right) {
            return false;
        }
        let (one, other) = (one.through.as_deref(), other.through.as_deref());
        let (one, other) = (one.unwrap_or_default(), other.unwrap_or_default());
        if one.len() != other.len() {
            return false;
        }
        todo.extend(one.iter().copied().zip(other.iter().copied()));
    }
    true
}

fn declared_to_differ(ledger: &Ledger, field: FieldId) -> bool {
    ledger.field(field.subject, field.slot).1.is_meant_to_differ()
}

/// Whether two fields are made in the same way: derived alike, or from one text.
pub(crate) fn is_same_text(session: &mut Session<'_, '_>, left: FieldId, right: FieldId) -> bool {
    if session.ledger().field(left.subject, left.slot).1.derived {
        return true;
    }
    let winner = |session: &mut Session<'_, '_>, field: FieldId| match session
        .winners(field.subject, field.stage)[field.slot.0 as usize]
    {
        Winner::Set(setting, ..) => Some(setting.place),
        Winner::Default(default, _) => default.place,
        Winner::Nothing | Winner::Assumed(_) => None,
    };
    let one = winner(session, left);
    one.is_some() && one == winner(session, right)
}
