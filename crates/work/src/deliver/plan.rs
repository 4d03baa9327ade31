//! What one delivery comes to, before anything is brought.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::delivery::{Arrived, FieldChange, asked_for, contract_hash, field_changes};
use cledger_core::findings::Finding;
use cledger_core::kept::Kept;
use cledger_core::model::{Chore, Ledger, StageId, Subject, When};
use cledger_core::render::rendering;
use cledger_store::daybook::{Content, Daybook, Record, Wanted};

use crate::bringing::at::AtOutlet;
use crate::deliver::made::made;
use crate::deliver::recorded::{Planner, arrived};
use crate::meant::unit_of;
use crate::rendered::not_readable_in;
use crate::trouble::Trouble;

/// The fields that are not as they were delivered to the stages before, each with these stages.
pub type Untested = BTreeMap<String, BTreeSet<String>>;

/// What is known of one unit or instance on its way to a stage.
#[derive(Debug)]
pub struct Plan {
    /// Its name.
    pub owner: String,
    /// Whose values they are.
    pub subject: Subject,
    /// The stage.
    pub stage: StageId,
    /// What is to be there.
    pub content: Content,
    /// The last record, and what it holds.
    pub last: Option<(Record, Content)>,
    /// The hash of the contract.
    pub contract: String,
    /// The unit's version.
    pub version: Option<String>,
    /// The texts of the chores that somebody did.
    pub done: BTreeSet<String>,
    /// What its outlets have now, and what of that changes.
    pub outlets: Vec<AtOutlet>,
    /// The outlets that hold something of it, and that the ledger does not declare any more.
    pub lost_outlets: Vec<String>,
    /// The number of the delivery whose content comes again.
    pub again: Option<u64>,
    /// The outlets that are reached by hand, each with what to do.
    pub by_hand: Vec<(String, String)>,
    /// The fields that are not as they were delivered to the stages before, and are not meant to differ.
    pub untested: Untested,
}

/// A plan, or what keeps it from being whole.
pub(crate) type Planned = Result<Plan, Vec<Finding>>;

/// What the ledger makes for a unit in a stage.
pub(crate) fn plan(
    planner: &Planner<'_, '_>,
    book: &mut dyn Daybook,
    subject: Subject,
    stage: StageId,
) -> Result<Planned, Trouble> {
    let mut session = planner.resolver.session(unit_of(subject));
    let rendering = rendering(&mut session, subject, stage);
    if !rendering.unreadable.is_empty() {
        return Err(not_readable_in(&mut session, &rendering, planner.keys));
    }
    if !rendering.gaps.is_empty() {
        return Ok(Err(rendering.gaps));
    }
    let content = made(planner.resolver, &rendering, subject, stage)?;
    whole(planner, book, (subject, stage), content).map(Ok)
}

/// The content of an earlier delivery once more, whatever the ledger says by now.
pub(crate) fn plan_again(
    planner: &Planner<'_, '_>,
    book: &mut dyn Daybook,
    place: (Subject, StageId),
    record: &Record,
) -> Result<Plan, Trouble> {
    let mut content = planner.content(record)?;
    content.before.clear();
    Ok(Plan {
        contract: record.meta.contract.clone(),
        version: record.meta.version.clone(),
        again: Some(record.meta.number),
        ..whole(planner, book, place, content)?
    })
}

/// A plan for this content, with what is known of the deliveries before.
fn whole(
    planner: &Planner<'_, '_>,
    book: &mut dyn Daybook,
    (subject, stage): (Subject, StageId),
    content: Content,
) -> Result<Plan, Trouble> {
    let ledger = planner.resolver.ledger();
    let owner = ledger.owner(subject).to_string();
    let last = planner.last(book, &owner, stage)?;
    let wanted = Wanted { beside: Some(true), ..Wanted::of(&owner, ledger.stage(stage).name.as_str()) };
    let done = book.entries(&wanted, false)?.into_iter().filter_map(|entry| entry.meta.chore).collect();
    Ok(Plan {
        subject,
        stage,
        content,
        last,
        contract: contract_hash(ledger, subject),
        version: unit_of(subject).and_then(|unit| ledger.unit(unit).version.clone()),
        done,
        outlets: Vec::new(),
        lost_outlets: Vec::new(),
        again: None,
        by_hand: Vec::new(),
        untested: Untested::new(),
        owner,
    })
}

impl Plan {
    /// What was delivered last, if anything is there.
    pub fn delivered(&self) -> Option<&Content> {
        let last = self.last.as_ref().filter(|(record, _)| record.meta.kind.is_brought());
        last.map(|(_, content)| content)
    }

    /// What changes against the last delivery.
    pub fn changes(&self) -> BTreeMap<String, FieldChange<'_>> {
        static NOTHING: BTreeMap<String, Kept> = BTreeMap::new();
        let before = self.delivered().map_or(&NOTHING, |content| &content.values);
        field_changes(before, &self.content.values)
    }

    /// Whether the last record is of the time when the unit had another name.
    pub fn is_under_former_name(&self) -> bool {
        self.last.as_ref().is_some_and(|(record, _)| record.meta.unit != self.owner)
    }

    /// Whether neither the content nor any outlet asks for a delivery.
    pub fn is_idle(&self) -> bool {
        self.delivered().is_some_and(|delivered| delivered.is_same_as(&self.content))
            && !self.is_under_former_name()
            && self.last.as_ref().is_some_and(|(record, _)| arrived(&record.meta) == Arrived::Whole)
            && self.outlets.iter().all(AtOutlet::is_exact)
    }

    /// Whether no outlet takes anything of it, so that it can never be delivered.
    pub fn is_nowhere(&self) -> bool {
        let takes = |outlet: &AtOutlet| outlet.reason().is_some() || !outlet.parts().is_empty();
        self.by_hand.is_empty() && !self.outlets.iter().any(takes)
    }

    /// Whether something would be overwritten or deleted that is not ours.
    pub fn is_blocked(&self) -> bool {
        self.outlets.iter().any(|outlet| outlet.blocking().next().is_some())
    }

    /// The chores around this delivery: those before and after the first one that nobody has done, and those that
    /// what changes asks for.
    pub fn chores<'l>(&self, ledger: &'l Ledger) -> Vec<&'l Chore> {
        let changes = self.changes();
        let fields: BTreeSet<&str> = changes.keys().map(String::as_str).collect();
        let mut chores = asked_for(ledger, self.subject, self.stage, self.last.is_none(), &fields);
        chores.retain(|chore| {
            let is_once = matches!(chore.when, When::FirstDelivery | When::AfterFirstDelivery);
            !(is_once && self.done.contains(&chore.text))
        });
        chores
    }
}
