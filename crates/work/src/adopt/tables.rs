//! Lookup tables that have a table of their own at an outlet: entries of the contract, and rows of each stage.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use cledger_core::adopt::looks_secret;
use cledger_core::model::{Kind, LayerId, Ledger, LookupRows, Slot, StageId, Subject, UnitId};
use cledger_core::name::Name;
use cledger_core::resolve::{Effective, FieldId, Resolver, Session};
use cledger_core::tree::Branch;
use cledger_core::value::Value;
use cledger_store::{Edit, Target, What, literal, within_setting};
use zeroize::Zeroizing;

use crate::adopt::not_read::NotRead;
use crate::lookup_rows::{cells, rows_of, texts};

/// What an outlet has of a lookup table.
#[derive(Debug)]
pub(crate) struct TableThere {
    entry: Name,
    key: String,
    columns: Vec<String>,
    outlet: String,
    /// Its rows, in JSON.
    text: Zeroizing<String>,
}

impl TableThere {
    pub(super) fn new(rows: &LookupRows, outlet: &str, text: Zeroizing<String>) -> Self {
        let columns = rows.columns.iter().map(|(name, _)| name.clone()).collect();
        let (entry, key) = (rows.entry.clone(), rows.key.clone());
        Self { entry, key, columns, outlet: outlet.to_owned(), text }
    }
}

/// A lookup table that becomes an entry.
#[derive(Debug, Clone)]
pub struct FoundTable {
    /// As the contract calls it.
    pub entry: Name,
    /// The column that tells rows apart.
    pub key: String,
    /// The others.
    pub columns: Vec<String>,
    /// The rows that all stages have, which become those of the contract.
    pub common: Branch,
    /// Whether some stage has none of it.
    pub is_optional: bool,
    rows: BTreeMap<StageId, OfStage>,
}

/// The rows of a stage.
#[derive(Debug, Clone)]
struct OfStage {
    outlet: String,
    rows: Branch,
    text: Zeroizing<String>,
}

/// Puts together what stages have, and says of what is not taken why not. Rows that all `stages` have become defaults, unless
/// there are to be none.
pub(super) fn put_together(
    found: Vec<(StageId, TableThere)>,
    resolver: &Resolver<'_>,
    (name, unit): (&Name, Option<UnitId>),
    (stages, no_defaults): (&[StageId], bool),
    not_read: &mut Vec<NotRead>,
) -> Vec<FoundTable> {
    let mut tables: BTreeMap<Name, FoundTable> = BTreeMap::new();
    let mut left: BTreeSet<(Name, String)> = BTreeSet::new();
    for (stage, there) in found {
        let TableThere { entry, key, columns, outlet, text } = there;
        let rows = rows_of(&Value::text(&text)).unwrap_or_default();
        let known = InContract::of(resolver, unit, &entry);
        if known.as_ref().is_some_and(|known| known.is_alike(stage, &key, &rows)) {
            continue;
        }
        let before = tables.get(&entry).and_then(|table| table.rows.get(&stage));
        let otherwise = || {
            let other = &before.filter(|before| before.rows != rows)?.outlet;
            Some(format!("outlet `{other}` has other rows of it in the same stage: adopt from one of them"))
        };
        let by_hand = || {
            let columns = [key.as_str()].into_iter().chain(columns.iter().map(String::as_str));
            let columns = columns.collect::<Vec<_>>().join(",");
            format!("declare it (cledger add table {name}/{entry} --columns {columns} --key {key})")
        };
        let reason = known.map(|known| known.reason(name, &entry));
        let reason = reason.or_else(|| unwritable(&rows, &by_hand)).or_else(otherwise);
        if let Some(reason) = reason {
            if left.insert((entry.clone(), outlet.clone())) {
                not_read.push(NotRead { path: format!("outlet:{outlet} {entry}"), reason });
            }
            continue;
        }
        let table = tables.entry(entry.clone()).or_insert_with(|| FoundTable {
            entry,
            key,
            columns: Vec::new(),
            common: Branch::new(),
            is_optional: false,
            rows: BTreeMap::new(),
        });
        let is_new = |column: &String| !table.columns.contains(column);
        let more: Vec<String> = columns.into_iter().filter(is_new).collect();
        table.columns.extend(more);
        table.rows.entry(stage).or_insert(OfStage { outlet, rows, text });
    }
    let mut tables: Vec<FoundTable> =
        tables.into_values().filter(|table| !left.iter().any(|(entry, _)| *entry == table.entry)).collect();
    for table in &mut tables {
        table.part(stages, no_defaults);
    }
    tables
}

/// An entry that the unit has already.
struct InContract<'r, 'l> {
    resolver: &'r Resolver<'l>,
    unit: UnitId,
    /// Where it is a lookup table.
    slot: Option<Slot>,
}

impl<'r, 'l> InContract<'r, 'l> {
    fn of(resolver: &'r Resolver<'l>, unit: Option<UnitId>, entry: &Name) -> Option<Self> {
        let (unit, ledger) = (unit?, resolver.ledger());
        let subject = Subject::Unit(unit, None);
        ledger.entry_names(subject).find(|known| *known == entry.as_str())?;
        let slot = ledger.find_slot(subject, entry.as_str(), None).ok();
        let is_table = |slot: &Slot| matches!(ledger.field(subject, *slot).0.kind, Kind::Table { .. });
        Some(Self { resolver, unit, slot: slot.filter(is_table) })
    }

    /// Whether the ledger has just these rows in a stage.
    fn is_alike(&self, stage: StageId, key: &str, rows: &Branch) -> bool {
        let field = |slot| FieldId { subject: Subject::Unit(self.unit, None), stage, slot };
        let mut session = self.resolver.session(Some(self.unit));
        self.slot.is_some_and(|slot| has_rows(&mut session, field(slot), key, rows))
    }

    /// Why it is not taken from there.
    fn reason(&self, name: &Name, entry: &Name) -> String {
        match self.slot {
            Some(_) => format!(
                "the contract has it: take the rows that differ (cledger drift --take '{name}/{entry}@*' --write)"
            ),
            None => format!(
                "its rows are a lookup table, and `{name}/{entry}` is none: call that otherwise (cledger rename \
                 {name}/{entry} NEW-NAME)"
            ),
        }
    }
}

/// Whether the ledger has just these rows, which `key` tells apart.
fn has_rows(session: &mut Session<'_, '_>, field: FieldId, key: &str, rows: &Branch) -> bool {
    let outcome = session.outcome(field);
    let now = outcome.value().and_then(Effective::expose).and_then(rows_of).unwrap_or_default();
    let said = |rows: &Branch, row: &str| cells(rows, row, key).as_ref().map(texts);
    let is_same = |row: &str| said(&now, row) == said(rows, row);
    now.len() == rows.len() && rows.keys().all(|row| is_same(row))
}

/// Why rows cannot stand in a ledger, or may not do so in plain text.
fn unwritable(rows: &Branch, by_hand: &dyn Fn() -> String) -> Option<String> {
    if let Some(key) = rows.keys().find(|key| key.contains("${")) {
        return Some(format!(
            "the key `{key}` of a row would be a reference in a ledger: give it another one there"
        ));
    }
    let cells = rows.values().filter_map(|row| if let Value::Map(cells) = row { Some(cells) } else { None });
    let is_secret = |(column, cell): &(&_, &Value)| looks_secret(&[ToString::to_string(*column)], cell);
    let (column, _) = cells.flatten().find(is_secret)?;
    Some(format!(
        "its column `{column}` seems to hold secrets, and rows stand in plain text: {}, and set what its rows are made \
         of",
        by_hand()
    ))
}

impl FoundTable {
    /// Parts the rows that all of these stages have from those of single ones.
    fn part(&mut self, stages: &[StageId], no_defaults: bool) {
        self.is_optional = stages.iter().any(|stage| !self.rows.contains_key(stage));
        let first = self.rows.values().next().map(|first| first.rows.clone()).unwrap_or_default();
        let said = |rows: &Branch, row: &str| cells(rows, row, &self.key).as_ref().map(texts);
        let is_common = |row: &str| self.rows.values().all(|it| said(&it.rows, row) == said(&first, row));
        if !self.is_optional && !no_defaults {
            self.common = first
                .iter()
                .filter(|(key, _)| is_common(key))
                .map(|(key, row)| (key.clone(), row.clone()))
                .collect();
        }
    }

    /// Whether a stage has some of it.
    pub(super) fn is_in(&self, stage: StageId) -> bool {
        self.rows.contains_key(&stage)
    }

    /// How many rows become settings, over all stages.
    pub fn settings(&self) -> usize {
        self.rows.values().map(|rows| rows.rows.len() - self.common.len()).sum()
    }

    /// Its declaration.
    pub(super) fn block(&self, about: Option<&str>) -> String {
        let columns =
            [&self.key].into_iter().chain(&self.columns).map(|column| Value::text(column)).collect();
        let text = |text: &str| literal(&Value::text(text), None);
        let mut block = format!("[tables.{}]\n", self.entry);
        if let Some(about) = about {
            let _ = writeln!(block, "about = {}", text(about));
        }
        let _ = writeln!(block, "columns = {}", literal(&Value::List(columns), None));
        let _ = writeln!(block, "key = {}", text(&self.key));
        if self.is_optional {
            block.push_str("required = false\n");
        }
        if !self.common.is_empty() {
            let _ = writeln!(block, "\n[tables.{}.rows]", self.entry);
            for (key, row) in &self.common {
                let _ = writeln!(block, "{} = {}", cledger_store::key(key), literal(&row.escaped(), None));
            }
        }
        block
    }

    /// The settings that give each stage the rows that not all have.
    pub(super) fn edits(&self, after: &Ledger, subject: Subject) -> Vec<Edit> {
        let Ok(slot) = after.find_slot(subject, self.entry.as_str(), None) else { return Vec::new() };
        let of_stage = |(stage, rows): (&StageId, &OfStage)| {
            let target = Target::Layer(LayerId::Stage(*stage));
            let own = rows.rows.iter().filter(|(key, _)| !self.common.contains_key(*key));
            let edits = own.map(|(key, row)| {
                let row = What::Set(literal(&row.escaped(), None));
                within_setting(after, target, (subject, slot), &[key], row)
            });
            edits.collect::<Vec<_>>()
        };
        self.rows.iter().flat_map(of_stage).collect()
    }

    /// The stages that get rows of their own.
    pub(super) fn stages(&self) -> impl Iterator<Item = StageId> {
        let own = self.rows.iter().filter(|(_, rows)| rows.rows.len() > self.common.len());
        own.map(|(stage, _)| *stage)
    }

    /// How many cells the ledger to be gives back in all stages; the outlet of a stage where it does not otherwise.
    pub(super) fn prove(&self, session: &mut Session<'_, '_>, unit: UnitId) -> Result<usize, &str> {
        let subject = Subject::Unit(unit, None);
        let ledger = session.ledger();
        let slot = ledger.find_slot(subject, self.entry.as_str(), None).ok();
        let mut proven = 0;
        for (stage, there) in &self.rows {
            let field = slot.map(|slot| FieldId { subject, stage: *stage, slot });
            if !field.is_some_and(|field| has_rows(session, field, &self.key, &there.rows)) {
                return Err(&there.outlet);
            }
            proven += there
                .rows
                .values()
                .map(|row| if let Value::Map(cells) = row { cells.len() } else { 0 })
                .sum::<usize>();
        }
        Ok(proven)
    }

    /// What each stage has, where it has it: as it is kept.
    pub(super) fn there(&self) -> impl Iterator<Item = (StageId, &str, &Zeroizing<String>)> {
        self.rows.iter().map(|(stage, rows)| (*stage, rows.outlet.as_str(), &rows.text))
    }
}
