//! Records of the daybook, as the rules of deliveries and people look at them.

use cledger_core::delivery::{Event, FieldChange, Past, field_changes};
use cledger_core::model::StageId;
use cledger_core::resolve::Resolver;
use cledger_store::Keys;
use cledger_store::daybook::{Content, Daybook, Kind, Meta, Record, Wanted};

use crate::daybook;
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

/// A record as the rules of deliveries look at it.
pub(crate) fn past(record: &Record) -> Past<'_> {
    let Meta { place, number, .. } = record.meta;
    let event = match record.meta.kind {
        Kind::Delivered => Event::Delivered { contract: &record.meta.contract },
        Kind::Withdrawn => Event::Withdrawn,
        Kind::ChoreDone => Event::ChoreDone(record.meta.chore.as_deref().unwrap_or_default()),
    };
    Past { place, number, event }
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
