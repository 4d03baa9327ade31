//! A unit, or all of a stage, brought to the stage's outlets, and recorded.
//!
//! `plan` says what each delivery comes to, `guards` what it is refused for, `delivering` brings and records
//! one, `finish` finishes what an interrupted program left open, `withdraw` takes it off again.

mod again;
mod asked;
mod at_once;
pub mod at_outlets;
pub mod bundle;
mod bundled;
pub(crate) mod by_hand;
pub mod chores;
mod deliveries;
pub(crate) mod delivering;
pub mod dropping;
pub(crate) mod due;
pub(crate) mod finish;
pub(crate) mod guards;
pub mod history;
pub(crate) mod made;
pub(crate) mod only;
mod outcome;
pub mod overwritten;
pub mod plan;
pub(crate) mod recorded;
mod standing;
pub mod status;
mod taking_off;
pub(crate) mod tested;
pub mod to_do;
pub mod withdraw;
mod withdrawn;
pub mod words;

use std::collections::BTreeMap;

use cledger_core::delivery::{Arrived, referred_first};
use cledger_core::findings::Finding;
use cledger_core::model::{Outlet, StageId, Subject};
use cledger_store::daybook::{Daybook as _, Entry, Kind as RecordKind, Wanted};

pub use self::asked::{AT_ONCE, Settle, ToDeliver};
use self::at_once::Pace;
pub use self::bundle::Together;
use self::delivering::Delivering;
pub use self::outcome::{Delivered, Delivery};
use self::plan::{Plan, plan, plan_again};
use self::recorded::{Planner, arrived};
use crate::bringing::at::AtOutlet;
use crate::bringing::effects::Effects;
use crate::bringing::grounds::Grounds;
use crate::bringing::plan::From;
use crate::bringing::rules::Rules;
use crate::bringing::whom::Whom;
use crate::change::{CHANGES, countersigned};
use crate::daybook;
use crate::gate;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::several::each;
use crate::shared_book::SharedBook;
use crate::trouble::Trouble;

pub use self::plan::Untested;
pub use crate::bringing::rules::Edits;

/// Delivers, or shows what that would change.
pub fn deliver(opened: &Opened, asked: &ToDeliver) -> Result<Delivered, Trouble> {
    let ledger = &opened.ledger;
    asked.refuse_several()?;
    let stage = opened.told_stage(asked.what.stage.as_ref())?;
    let mut subjects = opened.whole_units(&asked.what, stage)?;
    let mut book = SharedBook::new(daybook::for_writing(opened, asked.write)?);
    let together = match asked.what.bundle() {
        Some(bundle) => {
            subjects = referred_first(&opened.resolver(), stage, &subjects);
            Some(Together::read(opened, &mut book, bundle, (&subjects, stage))?)
        }
        None => None,
    };
    let again = again::numbers((opened, asked), &mut book, together.as_ref(), (&subjects, stage))?;
    let subjects = again::meant(ledger, asked, &again, subjects);
    let staying = if asked.only.is_empty() {
        Vec::new()
    } else {
        let resolver = opened.resolver();
        let planner = Planner { resolver: &resolver, keys: opened.keys() };
        only::staying(&planner, &mut book, &subjects, stage, &asked.only)?
    };
    let resolver = opened.assuming(&staying);
    let planner = Planner { resolver: &resolver, keys: opened.keys() };
    let around = Around::of(opened);
    let effects = Effects::new(opened, &around, &resolver);
    let mut delivering =
        Delivering { opened, asked, planner, around: &around, effects: &effects, book, again };
    let mut gaps = delivering.errors(&subjects, stage)?;
    let mut deliveries = Vec::new();
    for &subject in &subjects {
        delivering.finish_open(subject, stage)?;
    }
    let telling = &*opened.at.telling;
    let plans =
        each(subjects, asked.at_once, (telling, "units"), |subject, _| delivering.plan(subject, stage));
    for plan in plans {
        match plan? {
            Ok(plan) => {
                delivering.tell_lost_outlets(&plan);
                deliveries.push(Delivery { plan, brought: Vec::new(), recorded: None, trouble: None });
            }
            Err(found) if gaps.is_empty() => gaps.extend(found),
            // The check has told them.
            Err(_) => {}
        }
    }
    let mut delivered = Delivered {
        ledger: ledger.clone(),
        together,
        deliveries,
        left_over: Vec::new(),
        gaps,
        write: asked.write,
        overwrites: asked.edits.overwrite,
        trouble: None,
    };
    if !delivered.gaps.is_empty() {
        delivered.deliveries.clear();
        return Ok(delivered);
    }
    delivering.refuse_idle_patterns(&delivered.deliveries)?;
    tested::refuse_idle(asked, delivered.deliveries.iter().map(|delivery| &delivery.plan))?;
    if asked.only.is_empty() && !asked.brings_earlier() {
        delivered.left_over = withdraw::left_over(&mut delivering, stage)?;
    }
    if asked.write {
        delivering.all(stage, &mut delivered)?;
    }
    Ok(delivered)
}

impl Delivering<'_, '_> {
    /// The errors of what is delivered; what was delivered before was in order then.
    fn errors(&self, subjects: &[Subject], stage: StageId) -> Result<Vec<Finding>, Trouble> {
        if self.asked.kind == RecordKind::Put {
            return Ok(Vec::new());
        }
        let errors = gate::holding_up(self.opened, self.planner.resolver, subjects, stage)?;
        if self.asked.brings_earlier() {
            gate::tell_now(self.opened, &errors);
            return Ok(Vec::new());
        }
        gate::refuse_not_judged(self.opened, stage)?;
        Ok(errors)
    }

    /// What a delivery would be, and what its outlets have now.
    fn plan(&self, subject: Subject, stage: StageId) -> Result<plan::Planned, Trouble> {
        let mut book = self.book.clone();
        let (owner, name) =
            (self.opened.ledger.owner(subject).to_string(), self.opened.ledger.stage(stage).name.as_str());
        let mut plan = match self.earlier(&owner, name)? {
            Some(number) => {
                let record = history::numbered(&mut book, &owner, name, number)?;
                plan_again(&self.planner, &mut book, (subject, stage), &record)?
            }
            None => match plan(&self.planner, &mut book, subject, stage)? {
                Ok(plan) => plan,
                Err(gaps) => return Ok(Err(gaps)),
            },
        };
        let whom = Whom::of(&self.opened.ledger, subject, stage);
        let rules = self.rules()?;
        (plan.outlets, plan.lost_outlets) = self.outlets(&whom, rules, &plan)?;
        let by_hand = by_hand::outlets(&self.opened.ledger, &whom.owner, stage);
        plan.by_hand = by_hand.map(|(outlet, chore)| (outlet.to_owned(), chore.to_owned())).collect();
        if plan.again.is_none() {
            plan.untested = tested::untested(&self.planner, &mut book, (subject, stage), &plan.content)?;
        }
        Ok(Ok(plan))
    }

    /// The number of the delivery whose content is brought in place of what the ledger says, if one is.
    fn earlier(&self, owner: &str, stage: &str) -> Result<Option<u64>, Trouble> {
        let Some(settle) = self.asked.settle else { return Ok(self.again.get(owner).copied()) };
        let wanted = Wanted { beside: Some(false), ..Wanted::of(owner, stage) };
        let mut entries = self.book.clone().entries(&wanted, false)?;
        let of = format!("{owner}@{stage}");
        let last = entries.pop().filter(|entry| entry.meta.kind.is_brought());
        let Some(last) = last.filter(|entry| arrived(&entry.meta) != Arrived::Whole) else {
            return Err(Trouble::usage(format!("no delivery of `{of}` came to a part of its outlets only"))
                .help("leave --finish and --put-back out"));
        };
        if settle == Settle::Finish {
            return Ok(Some(last.meta.number));
        }
        let is_whole = |entry: &&Entry| arrived(&entry.meta) == Arrived::Whole;
        match entries.iter().rev().find(is_whole).filter(|entry| entry.meta.kind.is_brought()) {
            Some(before) => Ok(Some(before.meta.number)),
            None => Err(Trouble::usage(format!("nothing was delivered to `{of}` before it"))
                .help(format!("take it off: cledger withdraw {of} --why TEXT --write"))),
        }
    }

    /// What a unit's outlets have now, and what of that a plan changes; and which are not declared any more.
    fn outlets(
        &self,
        whom: &Whom,
        rules: Rules,
        plan: &Plan,
    ) -> Result<(Vec<AtOutlet>, Vec<String>), Trouble> {
        let mut book = self.book.clone();
        let mut grounds = Grounds::read(&self.planner, &mut book, whom, rules)?;
        let stage = &self.opened.ledger.stage(whom.stage).name;
        // What is still open may have been brought.
        let open = crate::bringing::baseline::left_open(&mut book, &plan.owner, stage.as_str())?;
        if let Some(open) = open {
            let content = crate::bringing::baseline::content_of(&self.planner, &open)?;
            grounds.baseline = grounds.baseline.with_open(&open, &content);
        }
        let from = if plan.again.is_some() { From::Earlier } else { From::Ledger };
        let bringing = grounds.bringing(&self.opened.ledger, whom, &plan.content, from);
        let planned = self.bringer().plan(&bringing)?;
        Ok((planned.into_iter().map(|planned| planned.at).collect(), self.lost_outlets(whom, &grounds)))
    }

    /// The outlets that the ledger does not declare any more, although something lies there.
    fn lost_outlets(&self, whom: &Whom, grounds: &Grounds<'_>) -> Vec<String> {
        let ledger = &self.opened.ledger;
        let is_declared = |name: &String| {
            let taking = |outlet: &Outlet| ledger.takes(outlet, whom.stage, &whom.owner);
            ledger.outlets.iter().any(|outlet| outlet.name.as_str() == name && taking(outlet))
        };
        grounds.baseline.outlets().into_iter().filter(|name| !is_declared(name)).collect()
    }

    /// Tells which those are: nothing is reached on the daybook's word alone.
    fn tell_lost_outlets(&self, plan: &Plan) {
        let (owner, stage) = (&plan.owner, &self.opened.ledger.stage(plan.stage).name);
        for outlet in &plan.lost_outlets {
            self.opened.at.telling.notice(&format!(
                "Outlet {outlet} takes nothing of {owner}@{stage} any more, and what was brought there is left as it \
                 is: declare it again, and withdraw it."
            ));
        }
    }

    /// Refuses names that are to be left and that no plan changes.
    fn refuse_idle_patterns(&self, deliveries: &[Delivery]) -> Result<(), Trouble> {
        let mut texts = Vec::new();
        for outlet in deliveries.iter().flat_map(|delivery| &delivery.plan.outlets) {
            for part in outlet.parts() {
                let fields = part.names.iter().filter_map(|name| {
                    Some(name.address.as_deref()?.split_once('/')?.1.split('@').next()?.to_owned())
                });
                texts.extend(fields);
                texts.extend(part.names.iter().filter_map(crate::bringing::at::AtName::shown));
                texts.extend(part.path.clone().filter(|_| !part.names.is_empty()));
            }
        }
        Rules::refuse_idle(&self.asked.edits, &texts)
    }

    /// Refuses what is not granted of one delivery; gives its reason.
    fn granted(&mut self, plan: &Plan) -> Result<String, Trouble> {
        let (asked, ledger) = (self.asked, &self.opened.ledger);
        let whom = Whom::of(ledger, plan.subject, plan.stage);
        guards::somewhere(ledger, plan)?;
        guards::reached(&whom, ledger, plan.outlets.iter())?;
        if asked.kind == RecordKind::Put {
            guards::edits(&whom, ledger, plan.outlets.iter(), asked.edits.overwrite)?;
            return Ok(asked.consent.why.clone().unwrap_or_default());
        }
        guards::in_part(ledger, plan, asked.brings_earlier())?;
        guards::merged(self.opened, asked, plan)?;
        if !asked.skip_stages {
            guards::order(&mut self.book, ledger, plan)?;
        }
        tested::granted(asked, ledger, plan)?;
        guards::chores(&mut self.book, ledger, plan)?;
        guards::edits(&whom, ledger, plan.outlets.iter(), asked.edits.overwrite)?;
        guards::committed(self.opened, asked, plan)?;
        guards::reason(asked.consent.why.as_deref(), asked.draft_why, plan)
    }

    /// Makes all deliveries that are not idle, several at once. What is refused, or fails, for one of several
    /// does not hold up the others; of one alone it is the trouble of all.
    fn all(&mut self, stage: StageId, delivered: &mut Delivered) -> Result<(), Trouble> {
        let (asked, ledger) = (self.asked, &self.opened.ledger);
        countersigned(&self.opened.at, &[ledger.stage(stage)], &asked.consent.countersign, CHANGES)?;
        // What goes together goes whole, or is held up as a whole.
        let is_bundle = delivered.together.is_some();
        let is_alone = !is_bundle
            && (delivered.deliveries.len() + delivered.left_over.len() == 1
                || delivered.deliveries.len() == 1 && asked.what.only_one().is_some());
        let mut reasons = Vec::new();
        for delivery in &mut delivered.deliveries {
            let is_nowhere = asked.what.only_one().is_none() && delivery.plan.is_nowhere();
            if is_nowhere || delivery.plan.is_idle() {
                reasons.push(None);
                continue;
            }
            match self.granted(&delivery.plan) {
                Ok(why) => reasons.push(Some(why)),
                // A reason is that of all.
                Err(trouble) if is_alone || is_bundle || trouble.kind() == crate::trouble::Kind::Usage => {
                    return Err(trouble);
                }
                Err(trouble) => {
                    delivery.trouble = Some(trouble);
                    reasons.push(None);
                }
            }
        }
        if delivered.together.is_some() {
            self.together(delivered, reasons)?;
        } else {
            let not_begun = asked.stop_at_failure.then_some("leave --stop-at-failure out");
            let pace = Pace { not_begun, ..Pace::of(asked.at_once) };
            deliveries::make(self, &mut delivered.deliveries, reasons, (pace, BTreeMap::new()));
        }
        if is_alone && let Some(trouble) = delivered.deliveries.iter_mut().find_map(|it| it.trouble.take()) {
            return Err(trouble);
        }
        if asked.stop_at_failure && delivered.deliveries.iter().any(Delivery::has_failed) {
            return Ok(());
        }
        let failed = delivered.deliveries.iter().filter(|delivery| delivery.has_failed());
        let failed = failed.map(|delivery| delivery.plan.owner.clone()).collect();
        withdraw::all_left_over(self, &mut delivered.left_over, &failed);
        Ok(())
    }
}
