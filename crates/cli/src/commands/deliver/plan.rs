//! What one delivery comes to, before anything is brought.

use std::collections::BTreeMap;

use cledger_core::address::{Owner, Pattern};
use cledger_core::delivery::{Delivered, FieldChange, field_changes};
use cledger_core::model::{Chore, Ledger, StageId, Subject, When};
use cledger_core::render::rendering;
use cledger_core::resolve::Resolver;
use cledger_store::Keys;
use cledger_store::daybook::{Content, Daybook, Kind, Record, Wanted};

use crate::app::unit_of;
use crate::daybook;
use crate::error::CliError;
use crate::reality::made::{contract_hash, made};
use crate::reality::{Around, Place, UnitDrift, places};
use crate::rendered::not_readable_in;

/// What is known of one unit or instance on its way to a stage.
pub(crate) struct Plan {
    pub(crate) owner: String,
    pub(crate) subject: Subject,
    pub(crate) stage: StageId,
    /// What is to be there.
    pub(crate) content: Content,
    /// The last record, and what it holds.
    pub(crate) last: Option<(Record, Content)>,
    pub(crate) contract: String,
    pub(crate) version: Option<String>,
    /// How its outlets stand now, to what the ledger makes.
    pub(crate) there: Vec<UnitDrift>,
    /// The number of the delivery whose content comes again.
    pub(crate) again: Option<u64>,
}

/// Whose deliveries are planned, with what.
pub(crate) struct Planner<'a, 'l> {
    pub(crate) resolver: &'a Resolver<'l>,
    pub(crate) keys: &'a Keys<'a>,
}

impl<'l> Planner<'_, 'l> {
    fn ledger(&self) -> &'l Ledger {
        self.resolver.ledger()
    }

    /// The last record of a unit in a stage, with its content.
    pub(crate) fn last(
        &self,
        book: &mut dyn Daybook,
        owner: &str,
        stage: StageId,
    ) -> Result<Option<(Record, Content)>, CliError> {
        let stage = self.ledger().stage(stage).name.as_str();
        let last = book.records(&Wanted::last_of(owner, stage))?.pop();
        last.map(|record| Ok((record.clone(), self.content(&record)?))).transpose()
    }

    /// What a record holds.
    pub(crate) fn content(&self, record: &Record) -> Result<Content, CliError> {
        let meta = &record.meta;
        let of = (meta.unit.as_str(), meta.stage.as_str());
        daybook::content(of, &record.packed, meta.secrets.as_deref(), self.ledger(), self.keys)
    }

    /// What the ledger makes for a unit in a stage: with what keeps it from being whole, nothing.
    pub(crate) fn plan(
        &self,
        book: &mut dyn Daybook,
        subject: Subject,
        stage: StageId,
    ) -> Result<Result<Plan, Vec<cledger_core::findings::Finding>>, CliError> {
        let ledger = self.ledger();
        let owner = ledger.owner(subject).to_string();
        let mut session = self.resolver.session(unit_of(subject));
        let rendering = rendering(&mut session, subject, stage);
        if !rendering.unreadable.is_empty() {
            return Err(not_readable_in(&mut session, &rendering, self.keys));
        }
        if !rendering.gaps.is_empty() {
            return Ok(Err(rendering.gaps));
        }
        let content = made(self.resolver, &rendering, subject, stage)?;
        let last = self.last(book, &owner, stage)?;
        Ok(Ok(Plan {
            subject,
            stage,
            content,
            last,
            contract: contract_hash(ledger, subject),
            version: unit_of(subject).and_then(|unit| ledger.unit(unit).version.clone()),
            there: Vec::new(),
            again: None,
            owner,
        }))
    }
}

/// The values of a content, to be compared.
pub(crate) fn values(content: &Content) -> BTreeMap<String, Delivered<'_>> {
    let values = content.values.iter();
    values
        .map(|(name, stored)| {
            let text = stored.text.as_ref().map(|text| text.as_str());
            (name.clone(), Delivered { text, secret: stored.secret })
        })
        .collect()
}

impl Plan {
    /// What was delivered last, if anything is there.
    pub(crate) fn delivered(&self) -> Option<&Content> {
        self.last
            .as_ref()
            .filter(|(record, _)| record.meta.kind == Kind::Delivered)
            .map(|(_, content)| content)
    }

    /// What changes against the last delivery.
    pub(crate) fn changes(&self) -> BTreeMap<String, FieldChange<'_>> {
        let before = self.delivered().map(values).unwrap_or_default();
        field_changes(&before, &values(&self.content))
    }

    /// Whether neither the content nor any outlet asks for a delivery.
    pub(crate) fn is_idle(&self) -> bool {
        self.delivered() == Some(&self.content) && self.there.iter().all(UnitDrift::is_as_made)
    }

    /// The chores around this delivery: those before the first one, and those that what changes asks for.
    pub(crate) fn chores<'l>(&self, ledger: &'l Ledger) -> Vec<&'l Chore> {
        let is_first = self.last.is_none();
        let changes = self.changes();
        let asks = |chore: &&Chore| match &chore.when {
            When::EachDelivery => true,
            When::FirstDelivery => is_first,
            When::Changed(fields) => changes.keys().any(|name| {
                fields.iter().any(|field| name == field || name.split('.').next() == Some(field.as_str()))
            }),
        };
        all_chores(ledger, self.subject, self.stage).filter(asks).collect()
    }
}

/// The chores of a unit and of a stage.
pub(crate) fn all_chores(ledger: &Ledger, subject: Subject, stage: StageId) -> impl Iterator<Item = &Chore> {
    let of_unit = unit_of(subject).into_iter().flat_map(|unit| &ledger.unit(unit).chores);
    of_unit.chain(&ledger.stage(stage).chores)
}

/// The outlets that a unit or instance has in a stage.
pub(crate) fn places_of<'l>(
    ledger: &'l Ledger,
    around: &Around<'_>,
    subject: Subject,
    stage: StageId,
) -> Result<Vec<Place<'l>>, CliError> {
    let owner: Owner = ledger.owner(subject);
    let pattern = Pattern::parse(&format!("{owner}@{}", ledger.stage(stage).name))?;
    let mut places = places::outlets(&[pattern], ledger, around)?;
    for place in &mut places {
        // The pattern covers instances of the unit too.
        place.subjects.retain(|known| *known == subject);
    }
    places.retain(|place| !place.subjects.is_empty());
    Ok(places)
}
