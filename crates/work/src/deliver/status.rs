//! Each unit on its way through the stages, and what is waiting.

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

use cledger_core::delivery::{InStage, Past, Waiting, has_news_below, in_stage};
use cledger_core::model::{Bundle, LayerId, Ledger, StageId, Subject, UNITS_AT_ONCE, UnitId};
use cledger_core::render::{has_gaps, rendering};
use cledger_core::resolve::{Resolver, Session};
use cledger_store::daybook::{
    Content, Daybook, DaybookError, Digests, Entry, Kind, Meta, Wanted, bound_to_digests,
};
use jiff::Timestamp;
use rayon::prelude::*;

use crate::covering::meant;
use crate::daybook;
use crate::deliver::at_outlets::{AtOutlets, Other};
use crate::deliver::bundle::unit_of;
use crate::deliver::by_hand::is_awaited;
use crate::deliver::chores::open_chores;
use crate::deliver::made::made;
use crate::deliver::recorded::{Metas, Planner, differs, past, renamed};
use crate::meanwhile::{meanwhile, on_one_thread};
use crate::opened::Opened;
use crate::trouble::Trouble;

/// How units stand.
#[derive(Debug)]
pub struct Status {
    /// The ledger, whose stages are meant.
    pub ledger: Arc<Ledger>,
    /// One for each bundle that is meant, or was ever delivered.
    pub bundles: Vec<OfBundle>,
    /// One for each unit and instance.
    pub standings: Vec<Standing>,
    /// What outlets have that is not as the ledger says, and is nothing of a unit's stage.
    pub others: Vec<Other>,
    /// Whether outlets were looked at.
    pub is_live: bool,
}

/// A bundle on its way.
#[derive(Debug)]
pub struct OfBundle {
    /// Its name, as it stands where a unit's may.
    pub name: String,
    /// For each stage of the ledger, what its last record there says; [`None`] where there is none.
    pub stages: Vec<Option<There>>,
}

/// One unit or instance.
#[derive(Debug)]
pub struct Standing {
    /// Its name.
    pub owner: String,
    /// For each stage of the ledger, how it stands there; [`None`] where it does not belong.
    pub stages: Vec<Option<There>>,
}

/// How a unit stands in a stage.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct There {
    /// How.
    pub what: InStage,
    /// Whether a withdrawal made it so, and not a delivery.
    pub is_withdrawal: bool,
    /// Since so many seconds; none where nothing was delivered.
    pub age: i64,
    /// What is waiting, with how many fields or chores that is, where these are counted.
    pub waits: Vec<(Waiting, Option<usize>)>,
}

/// What tells whether the ledger says something else than was brought last, by unit and stage.
type LastDigests = BTreeMap<(String, String), Last>;

/// What was brought last, and the name that the unit had then.
struct Last {
    unit: String,
    stage: String,
    digested: Digested,
}

/// The digests of what was brought last; its content where there were none yet.
enum Digested {
    Digests(Digests),
    Content(Content),
}

/// Reads them, of all units and stages.
fn digests(planner: &Planner<'_, '_>, book: &mut dyn Daybook) -> Result<LastDigests, Trouble> {
    let mut last: BTreeMap<(String, String), Entry> = BTreeMap::new();
    for entry in book.entries(&Wanted::last_of_all(), true)? {
        last.insert((entry.meta.unit.clone(), entry.meta.stage.clone()), entry);
    }
    for (owner, stage) in renamed(planner.resolver.ledger()) {
        if let Some(entry) = book.entries(&Wanted::last_of(&owner, &stage), true)?.pop() {
            last.insert((owner, stage), entry);
        }
    }
    let read = |(of, entry): ((String, String), Entry)| {
        let digests = entry.digests()?;
        Ok((of, entry.meta, digests))
    };
    let read: Vec<_> = last.into_par_iter().map(read).collect::<Result<_, DaybookError>>()?;
    let mut all = LastDigests::new();
    for (of, Meta { unit, stage, number, kind, .. }, digests) in read {
        if !kind.is_brought() {
            continue;
        }
        let digested = if let Some(digests) = digests {
            Digested::Digests(digests)
        } else {
            let record = book.records(&Wanted::numbered(&unit, &stage, number))?.pop();
            Digested::Content(record.map(|it| planner.content(&it)).transpose()?.unwrap_or_default())
        };
        all.insert(of, Last { unit, stage, digested });
    }
    Ok(all)
}

/// What all of it is told from.
struct Telling<'a, 'l> {
    planner: Planner<'a, 'l>,
    metas: Metas,
    digests: LastDigests,
    at_outlets: AtOutlets,
    /// Where something keeps what is rendered from being whole.
    gaps: HashSet<(Subject, StageId)>,
    now: Timestamp,
}

/// How the units stand that these patterns or bundles cover, all without one; with `live` the outlets are looked at, too.
pub fn status(opened: &Opened, texts: &[String], live: bool) -> Result<Status, Trouble> {
    let ledger = &opened.ledger;
    let patterns = meant(ledger, texts)?;
    for pattern in &patterns {
        if pattern.has_stage() || pattern.has_entry() {
            let message = format!("`{pattern}` names more than units, and a status is that of all stages");
            return Err(Trouble::usage(message).help("write UNIT, or a pattern of units"));
        }
    }
    let resolver = opened.resolver();
    let planner = Planner { resolver: &resolver, keys: opened.keys() };
    let is_covered = |subject: &Subject| {
        let owner = ledger.owner(*subject);
        let (name, instance) = owner.names();
        patterns.is_empty() || patterns.iter().any(|pattern| pattern.covers_owner(name, instance))
    };
    // Values are looked at while the daybook is read.
    let (gaps, seen) = meanwhile(
        || gaps(&resolver, is_covered),
        || {
            let recorded = on_one_thread(|| recorded(opened, planner))?;
            let at_outlets =
                if live { AtOutlets::seen(opened, patterns.clone())? } else { AtOutlets::default() };
            Ok::<_, Trouble>((recorded, at_outlets))
        },
    );
    let ((metas, digests), at_outlets) = seen?;
    let telling = Telling { planner, metas, digests, at_outlets, gaps, now: (opened.at.clock)() };
    let units: Vec<UnitId> = ledger.unit_ids().collect();
    let of_unit = |&unit: &UnitId| {
        let mut session = resolver.session(Some(unit));
        let subjects = ledger.subjects_of(unit).filter(is_covered);
        subjects.map(|subject| telling.standing(&mut session, subject)).collect::<Vec<_>>()
    };
    let standings = units.par_iter().with_max_len(UNITS_AT_ONCE).flat_map_iter(of_unit).collect();
    let bundles = ledger.bundles.iter().filter_map(|bundle| telling.bundle(bundle, texts)).collect();
    let others = telling.at_outlets.others;
    Ok(Status { ledger: ledger.clone(), bundles, standings, others, is_live: live })
}

/// What is recorded.
fn recorded<'l>(opened: &'l Opened, planner: Planner<'_, 'l>) -> Result<(Metas, LastDigests), Trouble> {
    let mut book = daybook::reading(opened)?;
    let metas = Metas::read(book.as_deref_mut(), &opened.ledger)?;
    let digests = match &mut book {
        Some(book) => digests(&planner, &mut **book)?,
        None => BTreeMap::new(),
    };
    Ok((metas, digests))
}

/// Where something keeps what is rendered from being whole, of these subjects.
fn gaps(
    resolver: &Resolver<'_>,
    is_covered: impl Fn(&Subject) -> bool + Sync + Send,
) -> HashSet<(Subject, StageId)> {
    let ledger = resolver.ledger();
    let of_unit = |session: &mut Session<'_, '_>, unit: UnitId| {
        let places = ledger.places_of(unit).filter(|(subject, _)| is_covered(subject));
        places.filter(|&(subject, stage)| has_gaps(session, subject, stage)).collect::<Vec<_>>()
    };
    resolver.of_units(ledger.unit_ids().collect(), of_unit).flatten_iter().collect()
}

impl Telling<'_, '_> {
    /// How a bundle stands, if it is named, or nothing is and it was delivered somewhere.
    fn bundle(&self, bundle: &Bundle, texts: &[String]) -> Option<OfBundle> {
        let name = unit_of(&bundle.name);
        let ledger = self.planner.resolver.ledger();
        let there = |stage| {
            let last = self.metas_of(&name, stage).last()?;
            let is_whole = last.members.iter().all(|member| member.state.is_whole());
            let what = match last.kind {
                Kind::BundleWithdrawn => InStage::Withdrawn,
                _ if is_whole => InStage::Delivered(last.number),
                _ => InStage::InPart(last.number),
            };
            let is_withdrawal = last.kind == Kind::BundleWithdrawn;
            Some(There { what, is_withdrawal, age: self.age(&last.time), waits: Vec::new() })
        };
        let stages: Vec<Option<There>> = ledger.stage_ids().map(there).collect();
        let is_meant = texts.contains(&name) || texts.is_empty() && stages.iter().any(Option::is_some);
        is_meant.then_some(OfBundle { name, stages })
    }

    fn standing(&self, session: &mut Session<'_, '_>, subject: Subject) -> Standing {
        let ledger = self.planner.resolver.ledger();
        let owner = ledger.owner(subject).to_string();
        let pasts: Vec<Vec<Past<'_>>> =
            ledger.stage_ids().map(|stage| self.metas_of(&owner, stage).iter().map(past).collect()).collect();
        let mut stages = Vec::new();
        for stage in ledger.stage_ids() {
            let belongs = match subject {
                Subject::Unit(unit, instance) => ledger.unit(unit).belongs_to(stage, instance),
                Subject::Shared => false,
            };
            if !belongs {
                stages.push(None);
                continue;
            }
            let metas = self.metas_of(&owner, stage);
            let last = metas.iter().rfind(|meta| meta.kind.is_standing());
            let what = match (in_stage(&pasts[usize::from(stage.0)]), last) {
                (InStage::Delivered(number), Some(last)) if is_awaited(last, metas.iter()) => {
                    InStage::ByHand(number)
                }
                (what, _) => what,
            };
            let mut waits = self.waits(session, (subject, stage), metas);
            if has_news_below(ledger, stage, |stage| &pasts[usize::from(stage.0)]) {
                waits.push((Waiting::Promotion, None));
            }
            waits.sort_unstable();
            let is_withdrawal = last.is_some_and(|last| last.kind == Kind::Withdrawn);
            let age = last.map_or(0, |last| self.age(&last.time));
            stages.push(Some(There { what, is_withdrawal, age, waits }));
        }
        Standing { owner, stages }
    }

    fn metas_of(&self, owner: &str, stage: StageId) -> &[Meta] {
        self.metas.of(owner, self.planner.resolver.ledger().stage(stage).name.as_str())
    }

    /// In how many fields the ledger is known to say something else than was brought last, where these are counted;
    /// nothing where it is not known to.
    #[expect(clippy::option_option, reason = "it differs, or not, and fields are counted, or not")]
    fn differing(&self, owner: &str, stage: &str, now: &Content) -> Option<Option<usize>> {
        let Planner { resolver, keys } = self.planner;
        let last = self.digests.get(&(owner.to_owned(), stage.to_owned()))?;
        if last.unit != owner {
            // It has to come to where it belongs under its new name.
            return Some(None);
        }
        match &last.digested {
            Digested::Content(then) => differs(then, now).then_some(None),
            Digested::Digests(digests) => {
                let ledger = resolver.ledger();
                let layer = ledger.stage_id(stage).map(LayerId::Stage);
                let bound = bound_to_digests(owner, &last.stage);
                let open = |text: &str| keys.text(ledger, layer?, text, &bound);
                let count = digests.differing(&now.values, open).fields.len();
                (count > 0).then_some(Some(count))
            }
        }
    }

    /// What waits in one stage, but for promotions.
    fn waits(
        &self,
        session: &mut Session<'_, '_>,
        (subject, stage): (Subject, StageId),
        metas: &[Meta],
    ) -> Vec<(Waiting, Option<usize>)> {
        let Telling { planner, at_outlets, .. } = self;
        let (resolver, ledger) = (planner.resolver, planner.resolver.ledger());
        let (owner, name) = (ledger.owner(subject).to_string(), ledger.stage(stage).name.to_string());
        let mut waits = Vec::new();
        if ledger.broken_for(subject, stage).next().is_some() {
            waits.push((Waiting::Unreadable, None));
        } else if self.gaps.contains(&(subject, stage)) {
            waits.push((Waiting::Values, None));
        } else if self.digests.contains_key(&(owner.clone(), name.clone())) {
            let rendering = rendering(session, subject, stage);
            if rendering.unreadable.is_empty()
                && let Ok(now) = made(resolver, &rendering, subject, stage)
                && let Some(count) = self.differing(&owner, &name, &now)
            {
                waits.push((Waiting::Delivery, count));
            }
        }
        waits.extend(at_outlets.of(&owner, &name));
        let last = metas.iter().rfind(|meta| meta.kind.is_standing());
        if last.is_some_and(|meta| meta.kind.is_brought() && !meta.untested.is_empty()) {
            waits.push((Waiting::Untested, None));
        }
        if last.is_some_and(is_not_in_effect) {
            waits.push((Waiting::NotInEffect, None));
        }
        if !metas.is_empty() {
            let chores = open_chores(ledger, subject, stage, &self.metas).len();
            waits.extend((chores > 0).then_some((Waiting::Chore, Some(chores))));
        }
        waits
    }

    /// How many seconds ago; none if the clock has gone backwards.
    fn age(&self, time: &str) -> i64 {
        let then: Option<Timestamp> = time.parse().ok();
        then.map_or(0, |then| (self.now.as_second() - then.as_second()).max(0))
    }
}

/// Whether what a record brought is not taken up at an outlet.
fn is_not_in_effect(meta: &Meta) -> bool {
    meta.kind.is_brought() && meta.outlets.iter().any(|answer| answer.in_effect == Some(false))
}
