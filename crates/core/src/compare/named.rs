//! Comparing what stands under names: in files, or in a file and what a unit would get.

use std::collections::{BTreeMap, HashMap};

use super::{Difference, declared_to_differ, is_same_text};
use crate::adopt::loose;
use crate::model::{StageId, Subject};
use crate::output::OutputName;
use crate::render::as_written;
use crate::resolve::{Effective, FieldId, Session};
use crate::value::Held;

/// A value under a name.
#[derive(Debug, Clone)]
pub struct Named {
    /// The steps of the name.
    pub name: OutputName,
    /// The value; `None` for one that cannot be read here, which counts as a secret.
    pub value: Option<Held>,
    /// Whether it stands where there is text alone, so that `8080` may be a number.
    pub is_bare: bool,
}

impl Named {
    /// Whether it is a secret, or may be.
    pub fn is_secret(&self) -> bool {
        self.value.as_ref().is_none_or(Held::is_secret)
    }
}

/// One name on two sides.
#[derive(Debug, Clone)]
pub struct NamedCompared {
    /// The first side.
    pub left: Option<Named>,
    /// The second.
    pub right: Option<Named>,
    /// How they stand to each other.
    pub difference: Difference,
}

impl NamedCompared {
    /// Whether a side of it is a secret.
    pub fn is_secret(&self) -> bool {
        self.left.iter().chain(&self.right).any(Named::is_secret)
    }

    /// The name, that of the first side if it has one.
    pub fn name(&self) -> String {
        self.left.as_ref().or(self.right.as_ref()).map(|side| side.name.join(".")).unwrap_or_default()
    }
}

/// Compares two sides by their names; where they are spelled in different ways (`alike`), by the words
/// that the names are made of.
pub fn named(left: Vec<Named>, right: Vec<Named>, alike: bool) -> Vec<NamedCompared> {
    let key = |side: &Named| {
        let words = if alike { loose(&side.name) } else { String::new() };
        if words.is_empty() { side.name.join("\u{0}") } else { words }
    };
    let mut others: BTreeMap<String, Vec<Named>> = BTreeMap::new();
    for side in right {
        others.entry(key(&side)).or_default().push(side);
    }
    let mut compared: Vec<NamedCompared> = Vec::new();
    for side in left {
        let found = others.get_mut(&key(&side)).filter(|found| !found.is_empty());
        // Of several that are spelled alike, the same name first.
        let other = found.map(|found| {
            let same = found.iter().position(|other| other.name == side.name).unwrap_or(0);
            found.remove(same)
        });
        let difference = match &other {
            None => Difference::OnlyLeft,
            Some(other) => difference(&side, other),
        };
        compared.push(NamedCompared { left: Some(side), right: other, difference });
    }
    let rest = others.into_values().flatten();
    compared.extend(rest.map(|side| NamedCompared {
        left: None,
        right: Some(side),
        difference: Difference::OnlyRight,
    }));
    compared.sort_by_key(NamedCompared::name);
    compared
}

/// Marks as meant what differs between two stages because it is to: today's contract says so, or both are
/// made by one text of values that are among these and agree or differ as meant themselves. A text speaks
/// only for what it makes today: an earlier value may have been set by hand.
pub fn mark_meant(
    session: &mut Session<'_, '_>,
    compared: &mut [NamedCompared],
    left: (Subject, StageId),
    right: (Subject, StageId),
) {
    let ledger = session.ledger();
    let by_name: HashMap<String, usize> =
        compared.iter().enumerate().map(|(at, one)| (one.name(), at)).collect();
    let ids = ledger.slots(left.0).all().map(|slot| {
        let id = |(subject, stage): (Subject, StageId)| FieldId { subject, stage, slot };
        (id(left), id(right))
    });
    let mut made = Vec::new();
    for (left, right) in ids {
        let Some(&at) = by_name.get(&ledger.field_name(left.subject, left.slot)) else { continue };
        if compared[at].difference != Difference::Differs {
            continue;
        }
        if declared_to_differ(ledger, left) {
            compared[at].difference = Difference::AsMeant;
        } else if is_of_today(session, compared[at].left.as_ref(), left)
            && is_of_today(session, compared[at].right.as_ref(), right)
            && let Some(parts) = parts(session, left, right)
        {
            // What neither side has agrees.
            let names = parts.iter().map(|part| ledger.field_name(part.subject, part.slot));
            made.push((at, names.filter_map(|name| by_name.get(&name).copied()).collect::<Vec<_>>()));
        }
    }
    // What is made of values that are made of others is judged after them.
    let mut is_changed = true;
    while is_changed {
        is_changed = false;
        made.retain(|(at, parts)| {
            let agrees =
                |part: &usize| matches!(compared[*part].difference, Difference::Same | Difference::AsMeant);
            let is_source = |part: &usize| compared[*part].difference == Difference::AsMeant;
            let is_meant = parts.iter().all(agrees) && parts.iter().any(is_source);
            if is_meant {
                compared[*at].difference = Difference::AsMeant;
                is_changed = true;
            }
            !is_meant
        });
    }
}

/// Whether a value is the one that the ledger has for a field today, or is always made in the same way.
fn is_of_today(session: &mut Session<'_, '_>, side: Option<&Named>, field: FieldId) -> bool {
    if session.ledger().field(field.subject, field.slot).1.derived {
        return true;
    }
    let outcome = session.outcome(field);
    let now = outcome.value().and_then(Effective::expose);
    let then = side.and_then(|side| side.value.as_ref()).map(Held::expose);
    now.zip(then).is_some_and(|(now, then)| as_written(now) == as_written(then))
}

/// The fields of the same subject that two values are made of, if one text makes both of nothing else.
fn parts(session: &mut Session<'_, '_>, left: FieldId, right: FieldId) -> Option<Vec<FieldId>> {
    if !is_same_text(session, left, right) {
        return None;
    }
    let mut through = |field| session.outcome(field).value()?.through.as_deref().map(<[FieldId]>::to_vec);
    let (ones, others) = (through(left)?, through(right)?);
    let is_own = |part: &FieldId, of: FieldId| part.subject == of.subject && part.stage == of.stage;
    let is_alike = ones.len() == others.len()
        && ones
            .iter()
            .zip(&others)
            .all(|(one, other)| one.slot == other.slot && is_own(one, left) && is_own(other, right));
    (is_alike && !ones.is_empty()).then_some(ones)
}

fn difference(left: &Named, right: &Named) -> Difference {
    let (Some(one), Some(other)) = (&left.value, &right.value) else { return Difference::Unknown };
    let (one, other) = (one.expose(), other.expose());
    let same = if left.is_bare || right.is_bare {
        one.to_text() == other.to_text()
    } else {
        as_written(one) == as_written(other)
    };
    if same { Difference::Same } else { Difference::Differs }
}
