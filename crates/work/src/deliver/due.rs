//! What the daybook adds to a check: values that are due, and deliveries that the ledger left.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::findings::{Report, mark_due};
use cledger_core::model::LayerId;
use cledger_core::render::rendering;
use cledger_core::resolve::Resolver;
use cledger_store::daybook::{Content, Daybook, Entry, Meta, Wanted, bound_to_digests};

use crate::daybook;
use crate::deliver::made::made;
use crate::deliver::recorded::{Planner, differs};
use crate::meant::unit_of;
use crate::opened::Opened;
use crate::trouble::Trouble;

/// What was delivered last, of all units and stages, and the daybook that more can be asked.
pub(crate) struct LastDeliveries {
    book: Box<dyn Daybook>,
    entries: Vec<Entry>,
}

impl LastDeliveries {
    /// Reads it. A daybook that cannot be reached is none: everything is as strict as without one.
    pub(crate) fn read(opened: &Opened) -> Result<Option<Self>, Trouble> {
        let Ok(Some(mut book)) = daybook::reading(opened) else { return Ok(None) };
        let entries = book.entries(&Wanted::last_of_all(), true)?;
        Ok(Some(Self { book, entries }))
    }
}

/// Marks what is due, and gives a line for each delivery of an earlier content that the ledger does not say.
pub(crate) fn look_back(
    report: &mut Report,
    LastDeliveries { mut book, entries }: LastDeliveries,
    opened: &Opened,
    resolver: &Resolver<'_>,
    strict: bool,
) -> Result<Vec<String>, Trouble> {
    let ledger = resolver.ledger();
    let planner = Planner { resolver, keys: opened.keys() };
    if !strict {
        let mut last: BTreeMap<(String, String), Option<BTreeSet<String>>> = BTreeMap::new();
        mark_due(report, ledger, |unit, stage, field| {
            let fields = last
                .entry((unit.to_owned(), stage.to_owned()))
                .or_insert_with(|| fields(&mut *book, unit, stage).filter(|fields| !fields.is_empty()));
            fields.as_ref().is_some_and(|fields| !fields.contains(field))
        });
    }
    let mut lines = Vec::new();
    for entry in entries {
        let meta = &entry.meta;
        let (Some(again), Some(stage)) = (meta.again, ledger.stage_called(&meta.stage)) else { continue };
        let subject = ledger.subjects_in(stage).find(|&it| ledger.owner(it).to_string() == meta.unit);
        let Some(subject) = subject else { continue };
        let rendering = rendering(&mut resolver.session(unit_of(subject)), subject, stage);
        let Ok(now) = made(resolver, &rendering, subject, stage) else { continue };
        if says_otherwise(&planner, &mut *book, &entry, &now)? {
            let of = format!("{}@{}", meta.unit, meta.stage);
            lines.push(format!(
                "{of} has the content of delivery {again} again, and the ledger says something else: \
                 cledger compare {of}:last {of}"
            ));
        }
    }
    Ok(lines)
}

/// Whether the ledger is known to say something else than a record.
fn says_otherwise(
    planner: &Planner<'_, '_>,
    book: &mut dyn Daybook,
    entry: &Entry,
    now: &Content,
) -> Result<bool, Trouble> {
    let Meta { unit, stage, number, .. } = &entry.meta;
    if let Some(digests) = entry.digests()? {
        let ledger = planner.resolver.ledger();
        let layer = ledger.stage_called(stage).map(LayerId::Stage);
        let bound = bound_to_digests(unit, stage);
        let open = |text: &str| planner.keys.text(ledger, layer?, text, &bound);
        return Ok(!digests.differing(&now.values, open).fields.is_empty());
    }
    let record = book.records(&Wanted::numbered(unit, stage, *number))?.pop();
    let then = record.map(|record| planner.content(&record)).transpose()?;
    Ok(then.is_some_and(|then| differs(&then, now)))
}

/// The fields that the contract had at the last delivery of a unit to a stage.
fn fields(book: &mut dyn Daybook, unit: &str, stage: &str) -> Option<BTreeSet<String>> {
    let last = book.entries(&Wanted::last_of(unit, stage), true).ok()?.pop()?;
    if let Some(digests) = last.digests().ok()? {
        return Some(digests.fields().map(str::to_owned).collect());
    }
    let record = book.records(&Wanted::last_of(unit, stage)).ok()?.pop()?;
    Some(record.packed.unpack(None, |_| None).ok()?.fields)
}
