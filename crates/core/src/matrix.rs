//! Fields down, stages across.

use std::collections::BTreeMap;

use compact_str::CompactString;
use rayon::prelude::*;

use crate::address::{Address, Pattern};
use crate::let_go::let_go;
use crate::model::{StageId, Subject, UNITS_AT_ONCE, UnitId};
use crate::name::Name;
use crate::resolve::{FieldId, Outcome, Resolver, Session};

/// What a field comes to in one stage; `None` where it does not belong.
pub type Cell<'l> = Option<Outcome<'l>>;

/// A field in all stages.
#[derive(Debug, Clone)]
pub struct Row<'l> {
    /// Its address without a stage.
    pub address: Address,
    /// By stage, as asked for.
    pub cells: Vec<Cell<'l>>,
}

impl Row<'_> {
    /// Whether it lacks a value that it needs somewhere.
    pub fn is_missing_somewhere(&self) -> bool {
        self.cells.iter().flatten().any(|cell| matches!(cell, Outcome::Missing(..) | Outcome::Broken(_)))
    }

    /// Whether stages differ in it. What was not read does not count as different.
    pub fn differs(&self) -> bool {
        let mut there = self.cells.iter().flatten();
        let Some(first) = there.next() else { return false };
        there.any(|other| !is_same(first, other))
    }

    /// For each stage, whether it has another value there, or none, than in most of the stages where it belongs; never
    /// where there is no such majority. Secrets, what was not read and what is missing or wrong are not looked at.
    pub fn outliers(&self) -> Vec<bool> {
        let said = |cell: &Cell<'_>| match cell.as_ref()? {
            Outcome::Value(value) => Some(Some(value.expose().filter(|_| !value.is_secret())?.to_text())),
            Outcome::Absent(_) | Outcome::Unset => Some(None),
            Outcome::Missing(..) | Outcome::Broken(_) => None,
        };
        let said: Vec<Option<Option<CompactString>>> = self.cells.iter().map(said).collect();
        let mut counts: BTreeMap<&Option<CompactString>, usize> = BTreeMap::new();
        for text in said.iter().flatten() {
            *counts.entry(text).or_default() += 1;
        }
        let there = self.cells.iter().flatten().count();
        let most = counts.into_iter().find(|(_, count)| count * 2 > there).map(|(text, _)| text);
        said.iter()
            .map(|text| most.is_some_and(|most| text.as_ref().is_some_and(|text| text != most)))
            .collect()
    }

    /// Whether it has a value, or needs one, anywhere.
    pub fn says_something(&self) -> bool {
        self.cells.iter().flatten().any(|cell| !matches!(cell, Outcome::Unset))
    }
}

fn is_same(one: &Outcome<'_>, other: &Outcome<'_>) -> bool {
    match (one, other) {
        (Outcome::Value(one), Outcome::Value(other)) => match (one.expose(), other.expose()) {
            (Some(one), Some(other)) => one == other,
            _ => true,
        },
        _ => std::mem::discriminant(one) == std::mem::discriminant(other),
    }
}

/// The rows of several units and instances, those of one in a list of their own.
#[derive(Debug, Default)]
pub struct Rows<'l>(Vec<Vec<Row<'l>>>);

impl<'l> Rows<'l> {
    /// All rows, in their order.
    pub fn iter(&self) -> impl Iterator<Item = &Row<'l>> {
        self.0.iter().flatten()
    }

    /// Those of each unit or instance that has any.
    pub fn by_owner(&self) -> &[Vec<Row<'l>>] {
        &self.0
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.0.iter().map(Vec::len).sum()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Leaves out all that are not wanted.
    pub fn retain(&mut self, is_wanted: impl Fn(&Row<'l>) -> bool + Sync) {
        self.0.par_iter_mut().with_max_len(UNITS_AT_ONCE).for_each(|rows| rows.retain(&is_wanted));
        self.0.retain(|rows| !rows.is_empty());
    }
}

impl Drop for Rows<'_> {
    fn drop(&mut self) {
        let_go(std::mem::take(&mut self.0));
    }
}

/// The rows of all fields that a pattern covers, in these stages.
pub fn matrix<'l>(resolver: &Resolver<'l>, pattern: Option<&Pattern>, stages: &[StageId]) -> Rows<'l> {
    let ledger = resolver.ledger();
    let units: Vec<UnitId> = ledger.unit_ids().collect();
    let of_unit = |session: &mut Session<'_, 'l>, unit: UnitId| {
        let known = ledger.unit(unit);
        let mut rows = Vec::new();
        let instances =
            (0_u16..).zip(&known.instances).map(|(id, instance)| (Some(id), Some(&instance.name)));
        for (id, name) in std::iter::once((None, None)).chain(instances) {
            let name = name.map(Name::as_str);
            if pattern.is_none_or(|pattern| pattern.covers_owner(known.name.as_str(), name)) {
                let subject = Subject::Unit(unit, id.map(crate::model::InstanceId));
                rows.push(of_subject(session, subject, pattern, stages));
            }
        }
        rows
    };
    let mut rows: Vec<Vec<Row<'l>>> = Vec::new();
    // Shared entries by themselves only where they are asked for by name.
    if pattern.is_some_and(|pattern| pattern.to_string().starts_with("shared")) {
        rows.push(of_subject(&mut resolver.session(None), Subject::Shared, pattern, stages));
    }
    rows.par_extend(resolver.of_units(units, of_unit).flatten_iter());
    rows.retain(|rows| !rows.is_empty());
    Rows(rows)
}

fn of_subject<'l>(
    session: &mut Session<'_, 'l>,
    subject: Subject,
    pattern: Option<&Pattern>,
    stages: &[StageId],
) -> Vec<Row<'l>> {
    let ledger = session.ledger();
    let mut rows = Vec::new();
    for slot in ledger.slots(subject).all() {
        let (entry, declaration) = ledger.field(subject, slot);
        let name = declaration.name.as_ref();
        let covered = |pattern: &Pattern| pattern.covers_field(entry.name.as_str(), name.map(Name::as_str));
        if !pattern.is_none_or(covered) {
            continue;
        }
        let cell = |&stage: &StageId| match subject {
            Subject::Unit(unit, instance) if !ledger.unit(unit).belongs_to(stage, instance) => None,
            _ => Some(session.outcome(FieldId { subject, stage, slot })),
        };
        let cells = stages.iter().map(cell).collect();
        let address = Address::of_field(ledger.owner(subject), &entry.name, name, None);
        rows.push(Row { address, cells });
    }
    rows
}
