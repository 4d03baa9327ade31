//! A unit, or all of a stage, brought to the stage's outlets, and recorded.
//!
//! `plan` says what each delivery comes to, `guards` what it is refused for, `delivering` brings and records
//! one, `finish` finishes what an interrupted program left open.

pub mod chores;
mod delivering;
pub(crate) mod due;
mod finish;
mod guards;
pub mod history;
pub(crate) mod made;
mod only;
mod outcome;
pub mod plan;
pub(crate) mod recorded;
pub mod status;
pub mod withdraw;

use cledger_core::address::Pattern;
use cledger_core::findings::{self, Finding, Severity};
use cledger_core::model::{StageId, Subject};

use self::delivering::Delivering;
pub use self::outcome::{Delivered, Delivery, ToDeliver};
use self::plan::plan;
use self::recorded::Planner;
use crate::change::{CHANGES, countersigned};
use crate::daybook;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::veiling;
use crate::trouble::Trouble;

/// Delivers, or shows what that would change.
pub fn deliver(opened: &Opened, asked: &ToDeliver) -> Result<Delivered, Trouble> {
    let ledger = &opened.ledger;
    let stage = opened.told_stage(asked.stage.as_ref())?;
    if asked.owners.len() != 1 && asked.again.is_some() {
        return Err(Trouble::usage("a number is that of one unit").help("write UNIT@STAGE --again NUMBER"));
    }
    let subjects = opened.subjects_in(&asked.owners, stage)?;
    let mut book = daybook::for_writing(opened, asked.write)?;
    let staying = if asked.only.is_empty() {
        Vec::new()
    } else {
        let resolver = opened.resolver();
        let planner = Planner { resolver: &resolver, keys: opened.keys() };
        only::staying(&planner, &mut *book, &subjects, stage, &asked.only)?
    };
    let resolver = opened.assuming(&staying);
    let planner = Planner { resolver: &resolver, keys: opened.keys() };
    let mut delivering = Delivering { opened, asked, planner, around: Around::of(opened), book };
    let mut gaps = delivering.errors(stage)?;
    let mut deliveries = Vec::new();
    for subject in subjects {
        delivering.finish_open(subject, stage)?;
        match delivering.plan(subject, stage)? {
            Ok(plan) => deliveries.push(Delivery { plan, brought: Vec::new(), recorded: None }),
            Err(found) if gaps.is_empty() => gaps.extend(found),
            // The check has told them.
            Err(_) => {}
        }
    }
    let mut delivered =
        Delivered { ledger: ledger.clone(), deliveries, gaps, write: asked.write, trouble: None };
    if !delivered.gaps.is_empty() {
        delivered.deliveries.clear();
        return Ok(delivered);
    }
    if asked.write {
        let reasons = delivering.granted(stage, &delivered.deliveries)?;
        delivered.trouble = delivering.all(&mut delivered.deliveries, reasons).err();
    }
    Ok(delivered)
}

impl Delivering<'_, '_> {
    /// The errors of what is delivered; what was delivered before was in order then.
    fn errors(&self, stage: StageId) -> Result<Vec<Finding>, Trouble> {
        if self.asked.again.is_some() {
            return Ok(Vec::new());
        }
        let (name, today) = (&self.opened.ledger.stage(stage).name, self.opened.at.today()?);
        let mut owners: Vec<String> = self.asked.owners.iter().map(ToString::to_string).collect();
        if owners.is_empty() {
            owners.push(String::new());
        }
        let mut errors: Vec<Finding> = Vec::new();
        for owner in owners {
            let pattern = Pattern::parse(&format!("{owner}@{name}"))?;
            let report = findings::check(self.planner.resolver, Some(&pattern), Some(today));
            errors.extend(report.findings.into_iter().filter(|it| it.severity == Severity::Error));
        }
        Ok(errors)
    }

    /// What a delivery would be, and how the outlets stand.
    fn plan(&mut self, subject: Subject, stage: StageId) -> Result<plan::Planned, Trouble> {
        let mut plan = match plan(&self.planner, &mut *self.book, subject, stage)? {
            Ok(plan) => plan,
            Err(gaps) => return Ok(Err(gaps)),
        };
        if let Some(number) = self.asked.again {
            let name = self.opened.ledger.stage(stage).name.as_str();
            let record = history::numbered(&mut *self.book, &plan.owner, name, number)?;
            plan.content = self.planner.content(&record)?;
            plan.contract.clone_from(&record.meta.contract);
            plan.version.clone_from(&record.meta.version);
            plan.again = Some(number);
        }
        let looked = self.bringer().look(subject, stage)?;
        plan.there = looked.into_iter().flat_map(|looked| looked.units).collect();
        veiling::by_deliveries(&mut *self.book, &mut plan.there)?;
        Ok(Ok(plan))
    }

    /// Refuses what is not granted, before anything is brought; gives the reason of each delivery.
    fn granted(&mut self, stage: StageId, deliveries: &[Delivery]) -> Result<Vec<String>, Trouble> {
        let (asked, ledger) = (self.asked, &self.opened.ledger);
        countersigned(&self.opened.at, &[ledger.stage(stage)], &asked.consent.countersign, CHANGES)?;
        let mut reasons = Vec::new();
        for Delivery { plan, .. } in deliveries {
            if plan.is_idle() {
                reasons.push(String::new());
                continue;
            }
            if !asked.skip_stages {
                guards::order(&mut *self.book, ledger, plan)?;
            }
            guards::chores(&mut *self.book, ledger, plan)?;
            reasons.push(guards::reason(asked.consent.why.as_deref(), asked.draft_why, plan)?);
        }
        Ok(reasons)
    }

    /// Makes all deliveries that are not idle, one after the other.
    fn all(&mut self, deliveries: &mut [Delivery], reasons: Vec<String>) -> Result<(), Trouble> {
        for (delivery, why) in deliveries.iter_mut().zip(reasons) {
            if delivery.plan.is_idle() {
                continue;
            }
            (delivery.brought, delivery.recorded) = self.deliver(&delivery.plan, &why)?;
        }
        Ok(())
    }
}
