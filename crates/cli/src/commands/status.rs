//! `cledger status`: each unit on its way through the stages, and what is waiting.

use std::collections::{BTreeMap, BTreeSet};

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Pattern;
use cledger_core::delivery::{FieldChange, field_changes};
use cledger_core::model::{Ledger, StageId, Subject, UnitId};
use cledger_core::render::rendering;
use cledger_core::resolve::Resolver;
use cledger_store::Scope;
use cledger_store::daybook::{Kind, Record, Wanted};
use jiff::Timestamp;

use super::chores::open_chores;
use super::deliver::plan::{Planner, values};
use crate::app::App;
use crate::complete;
use crate::conditions::day;
use crate::daybook;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::reality::made::made;
use crate::reality::{Around, Seeing, look, places};

#[derive(Debug, Args)]
pub(crate) struct StatusArgs {
    /// Which units, as patterns; all if not given
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "UNIT")]
    units: Vec<String>,
    /// Look at the outlets, too, and say what has drifted
    #[arg(long)]
    live: bool,
}

/// One unit or instance.
pub(crate) struct Standing {
    pub(crate) owner: String,
    /// For each stage of the ledger, how it stands there; `None` where it does not belong.
    pub(crate) stages: Vec<Option<InStage>>,
    /// What is waiting.
    pub(crate) waiting: Vec<Waiting>,
}

/// Something that is waiting.
pub(crate) struct Waiting {
    /// In words.
    pub(crate) text: String,
    /// Whether something is wrong, and not only to be done.
    pub(crate) is_trouble: bool,
}

/// How a unit stands in a stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum InStage {
    /// Nothing was delivered there yet.
    Nothing,
    /// The number of the last delivery, and its age in seconds.
    Delivered(u64, i64),
    /// It was taken off again, so many seconds ago.
    Withdrawn(i64),
}

pub(crate) fn run(args: &StatusArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let patterns: Vec<Pattern> =
        args.units.iter().map(|text| Pattern::parse(text)).collect::<Result<_, _>>()?;
    let (root, ledger) = app.open(&Scope::Whole)?;
    let (outside, keys) = (app.outside(&root), app.keys(&root));
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let planner = Planner { resolver: &resolver, keys: &keys };
    let mut records: BTreeMap<(String, String), Vec<Record>> = BTreeMap::new();
    if let Some(mut book) = daybook::reading(app, &ledger, &root)? {
        for record in book.records(&Wanted::default())? {
            let key = (record.meta.unit.clone(), record.meta.stage.clone());
            records.entry(key).or_default().push(record);
        }
    }
    let mut drifted: BTreeSet<(String, String)> = BTreeSet::new();
    if args.live {
        let around = Around::of(app, &root, &outside);
        let looked =
            look(places::outlets(&[], &ledger, &around)?, &resolver, day(None)?, Seeing::Live(app.console))?;
        for unit in looked.into_iter().flat_map(|looked| looked.units).filter(|unit| !unit.is_clean()) {
            drifted.insert((unit.owner, unit.stage));
        }
    }
    let mut standings = Vec::new();
    for unit in ledger.unit_ids() {
        for subject in subjects_of(&ledger, unit) {
            let owner = ledger.owner(subject);
            let (name, instance) = owner.names();
            if patterns.is_empty() || patterns.iter().any(|pattern| pattern.covers_owner(name, instance)) {
                standings.push(standing(&planner, subject, &records, &drifted)?);
            }
        }
    }
    if app.console.is_json() {
        app.console.document(&json::status::document(&ledger, &standings));
    } else {
        text::status::print(app.console, &ledger, &standings);
    }
    Ok(status::CLEAN)
}

/// A unit and its instances.
fn subjects_of(ledger: &Ledger, unit: UnitId) -> impl Iterator<Item = Subject> {
    let instances = ledger.unit(unit).instances.iter();
    let instances = instances.filter_map(move |it| ledger.unit(unit).instance(it.name.as_str()));
    std::iter::once(None).chain(instances.map(Some)).map(move |instance| Subject::Unit(unit, instance))
}

fn standing(
    planner: &Planner<'_, '_>,
    subject: Subject,
    records: &BTreeMap<(String, String), Vec<Record>>,
    drifted: &BTreeSet<(String, String)>,
) -> Result<Standing, CliError> {
    let ledger = planner.resolver.ledger();
    let owner = ledger.owner(subject).to_string();
    let of = |stage: StageId| {
        let key = (owner.clone(), ledger.stage(stage).name.to_string());
        records.get(&key).map(Vec::as_slice).unwrap_or_default()
    };
    let last = |stage: StageId| of(stage).iter().rfind(|record| record.meta.kind != Kind::ChoreDone);
    let belongs = |stage: StageId| match subject {
        Subject::Unit(unit, instance) => ledger.unit(unit).belongs_to(stage, instance),
        Subject::Shared => false,
    };
    let (mut stages, mut waiting) = (Vec::new(), Vec::new());
    let (mut missing, mut awaiting, mut to_promote, mut drift, mut chores) =
        (Vec::new(), Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for stage in ledger.stage_ids() {
        if !belongs(stage) {
            stages.push(None);
            continue;
        }
        let name = ledger.stage(stage).name.as_str();
        stages.push(Some(match last(stage) {
            None => InStage::Nothing,
            Some(record) if record.meta.kind == Kind::Withdrawn => InStage::Withdrawn(age(&record.meta.time)),
            Some(record) => InStage::Delivered(record.meta.number, age(&record.meta.time)),
        }));
        let rendering =
            rendering(&mut planner.resolver.session(crate::app::unit_of(subject)), subject, stage);
        if !rendering.gaps.is_empty() {
            missing.push(name);
        } else if let Some(record) = last(stage).filter(|record| record.meta.kind == Kind::Delivered)
            && rendering.unreadable.is_empty()
            && let Ok(now) = made(planner.resolver, &rendering, subject, stage)
        {
            let then = planner.content(record)?;
            let changes = field_changes(&values(&then), &values(&now));
            if changes.values().any(|change| !matches!(change, FieldChange::NotKnown)) {
                awaiting.push(name);
            }
        }
        let before = ledger.stage(stage).after.iter().filter_map(|&before| last(before));
        let newer = before.filter(|before| before.meta.kind == Kind::Delivered).any(|before| {
            last(stage)
                .is_none_or(|here| here.meta.kind == Kind::Delivered && here.meta.place < before.meta.place)
        });
        if newer {
            to_promote.push(name);
        }
        if drifted.contains(&(owner.clone(), name.to_owned())) {
            drift.push(name);
        }
        if !open_chores(planner, subject, stage, of(stage))?.is_empty() && !of(stage).is_empty() {
            chores.push(name);
        }
    }
    for (what, stages, is_trouble) in [
        ("awaiting delivery in", awaiting, false),
        ("to be promoted to", to_promote, false),
        ("values missing or wrong in", missing, true),
        ("drifted in", drift, true),
        ("chore open in", chores, false),
    ] {
        if !stages.is_empty() {
            waiting.push(Waiting { text: format!("{what} {}", stages.join(", ")), is_trouble });
        }
    }
    Ok(Standing { owner, stages, waiting })
}

/// How many seconds ago; none if the clock has gone backwards.
fn age(time: &str) -> i64 {
    let then: Option<Timestamp> = time.parse().ok();
    then.map_or(0, |then| (Timestamp::now().as_second() - then.as_second()).max(0))
}
