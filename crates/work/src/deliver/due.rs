//! What the daybook adds to a check: values that are due, and deliveries that the ledger left.

use std::collections::BTreeMap;

use cledger_core::findings::{Report, mark_due};
use cledger_core::render::rendering;
use cledger_core::resolve::Resolver;
use cledger_store::daybook::{Content, Wanted};

use crate::daybook;
use crate::deliver::made::made;
use crate::deliver::recorded::{Planner, differs};
use crate::meant::unit_of;
use crate::opened::Opened;
use crate::trouble::Trouble;

/// Marks what is due, and gives a line for each delivery of an earlier content that the ledger does not
/// say. Without a daybook at hand nothing changes.
pub(crate) fn look_back(
    report: &mut Report,
    opened: &Opened,
    resolver: &Resolver<'_>,
    strict: bool,
) -> Result<Vec<String>, Trouble> {
    let ledger = resolver.ledger();
    // A daybook that cannot be reached is none: everything is as strict as without one.
    let Ok(Some(mut book)) = daybook::reading(opened) else { return Ok(Vec::new()) };
    let planner = Planner { resolver, keys: opened.keys() };
    if !strict {
        let mut last: BTreeMap<(String, String), Option<Content>> = BTreeMap::new();
        mark_due(report, ledger, |unit, stage, field| {
            let content = last.entry((unit.to_owned(), stage.to_owned())).or_insert_with(|| {
                let record = book.records(&Wanted::last_of(unit, stage)).ok()?.pop()?;
                planner.content(&record).ok().filter(|content| !content.fields.is_empty())
            });
            content.as_ref().is_some_and(|content| !content.fields.contains(field))
        });
    }
    let mut lines = Vec::new();
    for record in book.records(&Wanted::last_of_all())? {
        let (Some(again), Some(stage)) = (record.meta.again, ledger.stage_id(&record.meta.stage)) else {
            continue;
        };
        let subject = ledger.subjects_in(stage).find(|&it| ledger.owner(it).to_string() == record.meta.unit);
        let Some(subject) = subject else { continue };
        let rendering = rendering(&mut resolver.session(unit_of(subject)), subject, stage);
        let Ok(now) = made(resolver, &rendering, subject, stage) else { continue };
        if differs(&planner.content(&record)?, &now) {
            let of = format!("{}@{}", record.meta.unit, record.meta.stage);
            lines.push(format!(
                "{of} has the content of delivery {again} again, and the ledger says something else: \
                 cledger compare {of}:last {of}"
            ));
        }
    }
    Ok(lines)
}
