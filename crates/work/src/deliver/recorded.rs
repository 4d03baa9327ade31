//! Records of the daybook, as the rules of deliveries and people look at them.

use std::collections::BTreeMap;

use cledger_core::delivery::{Arrived, Event, FieldChange, Past, field_changes};
use cledger_core::model::{Ledger, StageId, Subject};
use cledger_core::resolve::Resolver;
use cledger_store::Keys;
use cledger_store::daybook::{AnswerState, Content, Daybook, Kind, Meta, Record, Wanted};
use jiff::Timestamp;

use crate::daybook;
use crate::meant::unit_of;
use crate::opened::Opened;
use crate::trouble::Trouble;

/// Reads records, with what is needed to open them.
#[derive(Clone, Copy)]
pub(crate) struct Planner<'a, 'l> {
    pub(crate) resolver: &'a Resolver<'l>,
    pub(crate) keys: &'a Keys<'a>,
}

impl Planner<'_, '_> {
    /// The last delivery or withdrawal of a unit in a stage, with its content.
    pub(crate) fn last(
        &self,
        book: &mut dyn Daybook,
        owner: &str,
        stage: StageId,
    ) -> Result<Option<(Record, Content)>, Trouble> {
        let stage = self.resolver.ledger().stage(stage).name.as_str();
        let last = book.records(&Wanted::last_of(owner, stage))?.pop();
        last.map(|record| Ok((record.clone(), self.content(&record)?))).transpose()
    }

    /// What a record holds.
    pub(crate) fn content(&self, record: &Record) -> Result<Content, Trouble> {
        daybook::content(record, self.resolver.ledger(), self.keys)
    }
}

/// What is known of all records, without their contents, by unit and stage.
#[derive(Default)]
pub(crate) struct Metas(BTreeMap<(String, String), Vec<Meta>>);

impl Metas {
    /// Reads them; nothing without a daybook. A unit that had another name has what was recorded then, too.
    pub(crate) fn read(book: Option<&mut (dyn Daybook + '_)>, ledger: &Ledger) -> Result<Self, Trouble> {
        let mut metas = Self::default();
        let Some(book) = book else { return Ok(metas) };
        for entry in book.entries(&Wanted::default(), false)? {
            let key = (entry.meta.unit.clone(), entry.meta.stage.clone());
            metas.0.entry(key).or_default().push(entry.meta);
        }
        for (owner, stage) in renamed(ledger) {
            let entries = book.entries(&Wanted::of(&owner, &stage), false)?;
            metas.0.insert((owner, stage), entries.into_iter().map(|entry| entry.meta).collect());
        }
        Ok(metas)
    }

    /// Those of a unit in a stage, in the order of the chain.
    pub(crate) fn of(&self, owner: &str, stage: &str) -> &[Meta] {
        self.0.get(&(owner.to_owned(), stage.to_owned())).map(Vec::as_slice).unwrap_or_default()
    }
}

/// The units and instances that had another name before, or belong to a stage that had one, with their stages.
pub(crate) fn renamed(ledger: &Ledger) -> Vec<(String, String)> {
    let is_renamed =
        move |subject: &Subject| unit_of(*subject).is_some_and(|unit| !ledger.unit(unit).formerly.is_empty());
    let of_stage = |stage| {
        let (name, is_new) = (ledger.stage(stage).name.to_string(), !ledger.stage(stage).formerly.is_empty());
        let subjects = ledger.subjects_in(stage).filter(move |subject| is_new || is_renamed(subject));
        subjects.map(move |subject| (ledger.owner(subject).to_string(), name.clone()))
    };
    ledger.stage_ids().flat_map(of_stage).collect()
}

/// A record as the rules of deliveries look at it.
pub(crate) fn past(meta: &Meta) -> Past<'_> {
    let Meta { place, number, .. } = *meta;
    let event = match meta.kind {
        Kind::Delivered | Kind::Put => Event::Delivered { contract: &meta.contract },
        Kind::Found => Event::Found,
        Kind::Withdrawn => Event::Withdrawn,
        Kind::ChoreDone => Event::ChoreDone(meta.chore.as_deref().unwrap_or_default()),
        // Those of bundles are of no unit.
        Kind::ChoresAsked | Kind::BundleDelivered | Kind::BundleWithdrawn => Event::ChoresAsked,
    };
    Past { place, number, event, arrived: arrived(meta), chores: meta.chores.as_deref() }
}

/// How far what is recorded came.
pub(crate) fn arrived(meta: &Meta) -> Arrived {
    let states = || meta.outlets.iter().map(|answer| answer.state);
    if states().any(|state| state == AnswerState::NotKnown) {
        Arrived::NotKnown
    } else if states().all(AnswerState::is_whole) {
        Arrived::Whole
    } else {
        Arrived::InPart
    }
}

/// The number of the last delivery of a unit that had come whole at a time, and was not withdrawn then.
pub(crate) fn stood_at(
    book: &mut dyn Daybook,
    owner: &str,
    stage: &str,
    time: Timestamp,
) -> Result<Option<u64>, Trouble> {
    let wanted = Wanted { beside: Some(false), ..Wanted::of(owner, stage) };
    let entries = book.entries(&wanted, false)?;
    let metas = entries.iter().map(|entry| &entry.meta);
    let then = |text: &str| text.parse::<Timestamp>().is_ok_and(|then| then <= time);
    let stood = metas.filter(|meta| then(&meta.time)).rfind(|meta| {
        meta.kind == Kind::Withdrawn || meta.kind.is_brought() && arrived(meta) == Arrived::Whole
    });
    Ok(stood.filter(|meta| meta.kind.is_brought()).map(|meta| meta.number))
}

/// Whether two contents are known to differ in a value.
pub(crate) fn differs(then: &Content, now: &Content) -> bool {
    let changes = field_changes(&then.values, &now.values);
    changes.values().any(|change| !matches!(change, FieldChange::NotKnown))
}

/// What is known of a record in the making.
pub(crate) fn meta(opened: &Opened, unit: &str, stage: &str, kind: Kind, why: &str) -> Meta {
    let at = &opened.at;
    let mut meta = Meta::new(unit, stage, kind, at.who(), why, at.now());
    meta.host.clone_from(&at.host);
    meta
}
