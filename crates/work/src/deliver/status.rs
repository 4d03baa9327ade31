//! Each unit on its way through the stages, and what is waiting.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use cledger_core::address::Pattern;
use cledger_core::delivery::{InStage, Past, Waiting, has_news_below, in_stage};
use cledger_core::model::{Ledger, StageId, Subject, UnitId};
use cledger_core::render::rendering;
use cledger_store::daybook::{Kind, Record, Wanted};
use jiff::Timestamp;

use crate::daybook;
use crate::deliver::chores::open_chores;
use crate::deliver::made::made;
use crate::deliver::recorded::{Planner, differs, past};
use crate::meant::unit_of;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::look::{Seeing, look};
use crate::reality::places;
use crate::trouble::Trouble;

/// How units stand.
#[derive(Debug)]
pub struct Status {
    /// The ledger, whose stages are meant.
    pub ledger: Arc<Ledger>,
    /// One for each unit and instance.
    pub standings: Vec<Standing>,
}

/// One unit or instance.
#[derive(Debug)]
pub struct Standing {
    /// Its name.
    pub owner: String,
    /// For each stage of the ledger, how it stands there; [`None`] where it does not belong.
    pub stages: Vec<Option<There>>,
    /// What is waiting, and in which stages.
    pub waiting: BTreeMap<Waiting, Vec<String>>,
}

/// How a unit stands in a stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct There {
    /// How.
    pub what: InStage,
    /// Since so many seconds; none where nothing was delivered.
    pub age: i64,
}

/// The records of each unit in each stage.
type Records = BTreeMap<(String, String), Vec<Record>>;

/// What all of it is told from.
struct Telling<'a, 'l> {
    planner: Planner<'a, 'l>,
    records: Records,
    /// Units and stages in which something has drifted.
    drifted: BTreeSet<(String, String)>,
    now: Timestamp,
}

/// How the units stand that these patterns cover, all without one; with `live` the outlets are looked at, too.
pub fn status(opened: &Opened, patterns: &[Pattern], live: bool) -> Result<Status, Trouble> {
    let ledger = &opened.ledger;
    let resolver = opened.resolver();
    let planner = Planner { resolver: &resolver, keys: opened.keys() };
    let mut records = Records::new();
    if let Some(mut book) = daybook::reading(opened)? {
        for record in book.records(&Wanted::default())? {
            let key = (record.meta.unit.clone(), record.meta.stage.clone());
            records.entry(key).or_default().push(record);
        }
    }
    let drifted = if live { drifted(opened, planner)? } else { BTreeSet::new() };
    let telling = Telling { planner, records, drifted, now: (opened.at.clock)() };
    let mut standings = Vec::new();
    for subject in ledger.unit_ids().flat_map(|unit| subjects_of(ledger, unit)) {
        let owner = ledger.owner(subject);
        let (name, instance) = owner.names();
        if patterns.is_empty() || patterns.iter().any(|pattern| pattern.covers_owner(name, instance)) {
            standings.push(telling.standing(subject)?);
        }
    }
    Ok(Status { ledger: ledger.clone(), standings })
}

/// The units that are not at all their outlets as the ledger says, with the stages where that is so.
fn drifted(opened: &Opened, planner: Planner<'_, '_>) -> Result<BTreeSet<(String, String)>, Trouble> {
    let (at, around) = (&opened.at, Around::of(opened));
    let places = places::outlets(&[], planner.resolver.ledger(), &around)?;
    let looked = look(places, planner.resolver, at.today()?, Seeing::Live(&*at.telling))?;
    let units = looked.into_iter().flat_map(|looked| looked.units);
    Ok(units.filter(|unit| !unit.is_clean()).map(|unit| (unit.owner, unit.stage)).collect())
}

/// A unit and its instances.
fn subjects_of(ledger: &Ledger, unit: UnitId) -> impl Iterator<Item = Subject> {
    let instances = ledger.unit(unit).instances.iter();
    let instances = instances.filter_map(move |it| ledger.unit(unit).instance(it.name.as_str()));
    std::iter::once(None).chain(instances.map(Some)).map(move |instance| Subject::Unit(unit, instance))
}

impl Telling<'_, '_> {
    fn standing(&self, subject: Subject) -> Result<Standing, Trouble> {
        let ledger = self.planner.resolver.ledger();
        let owner = ledger.owner(subject).to_string();
        let pasts: Vec<Vec<Past<'_>>> = ledger
            .stage_ids()
            .map(|stage| self.records_of(&owner, stage).iter().map(past).collect())
            .collect();
        let (mut stages, mut waiting) = (Vec::new(), BTreeMap::<Waiting, Vec<String>>::new());
        for stage in ledger.stage_ids() {
            let belongs = match subject {
                Subject::Unit(unit, instance) => ledger.unit(unit).belongs_to(stage, instance),
                Subject::Shared => false,
            };
            if !belongs {
                stages.push(None);
                continue;
            }
            let records = self.records_of(&owner, stage);
            let last = records.iter().rfind(|record| record.meta.kind != Kind::ChoreDone);
            let what = in_stage(&pasts[usize::from(stage.0)]);
            stages.push(Some(There { what, age: last.map_or(0, |last| self.age(&last.meta.time)) }));
            let mut waits = self.waits(subject, stage, records)?;
            if has_news_below(ledger, stage, |stage| &pasts[usize::from(stage.0)]) {
                waits.push(Waiting::Promotion);
            }
            for what in waits {
                waiting.entry(what).or_default().push(ledger.stage(stage).name.to_string());
            }
        }
        Ok(Standing { owner, stages, waiting })
    }

    fn records_of(&self, owner: &str, stage: StageId) -> &[Record] {
        let name = &self.planner.resolver.ledger().stage(stage).name;
        let records = self.records.get(&(owner.to_owned(), name.to_string()));
        records.map(Vec::as_slice).unwrap_or_default()
    }

    /// What waits in one stage, but for promotions.
    fn waits(&self, subject: Subject, stage: StageId, records: &[Record]) -> Result<Vec<Waiting>, Trouble> {
        let Telling { planner, drifted, .. } = self;
        let (resolver, ledger) = (planner.resolver, planner.resolver.ledger());
        let last = records.iter().rfind(|record| record.meta.kind != Kind::ChoreDone);
        let mut waits = Vec::new();
        let rendering = rendering(&mut resolver.session(unit_of(subject)), subject, stage);
        if !rendering.gaps.is_empty() {
            waits.push(Waiting::Values);
        } else if let Some(record) = last.filter(|record| record.meta.kind == Kind::Delivered)
            && rendering.unreadable.is_empty()
            && let Ok(now) = made(resolver, &rendering, subject, stage)
            && differs(&planner.content(record)?, &now)
        {
            waits.push(Waiting::Delivery);
        }
        let key = (ledger.owner(subject).to_string(), ledger.stage(stage).name.to_string());
        if drifted.contains(&key) {
            waits.push(Waiting::Drifted);
        }
        if !records.is_empty() && !open_chores(planner, subject, stage, records)?.is_empty() {
            waits.push(Waiting::Chore);
        }
        Ok(waits)
    }

    /// How many seconds ago; none if the clock has gone backwards.
    fn age(&self, time: &str) -> i64 {
        let then: Option<Timestamp> = time.parse().ok();
        then.map_or(0, |then| (self.now.as_second() - then.as_second()).max(0))
    }
}
