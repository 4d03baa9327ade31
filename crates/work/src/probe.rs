//! Whether the services that units talk to in a stage answer.

use std::collections::BTreeSet;
use std::time::Duration;

use cledger_core::address::{Address, Owner};
use cledger_core::model::{Class, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::probe::{NotTried, Probed, Target, merged, targets};
use cledger_core::resolve::Assumption;
use cledger_core::trust::of_target;
use cledger_outlets::Trust;
use cledger_outlets::probe::Prober;
use cledger_store::daybook::Daybook;

use crate::daybook;
use crate::deliver::plan::plan;
use crate::deliver::recorded::Planner;
use crate::known::not_trusted;
use crate::meant::unit_of;
use crate::opened::Opened;
use crate::trouble::{Kind, Trouble};

/// What probing a stage came to.
#[derive(Debug)]
pub struct ProbeReport {
    /// The stage.
    pub stage: String,
    /// What it is for.
    pub class: &'static str,
    /// Whether only what a delivery would change something of was tried.
    pub undelivered: bool,
    /// The services, each with its answer.
    pub probed: Vec<(Target, Probed)>,
    /// What could not be tried.
    pub not_tried: Vec<NotTried>,
}

impl ProbeReport {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        let all_are_met = self.probed.iter().all(|(target, probed)| target.wanted.is_met(probed));
        (!(all_are_met && self.not_tried.is_empty())).then_some(Kind::Found)
    }
}

/// What is to be tried.
#[derive(Debug)]
pub struct ToProbe<'p> {
    /// The units of a stage; all of it where only that is named.
    pub addresses: &'p [Address],
    /// Values for this run.
    pub assumptions: &'p [Assumption],
    /// Only what a delivery would change something of.
    pub undelivered: bool,
    /// The production stage that is meant, by its name.
    pub countersign: Option<&'p Name>,
    /// How long each service has.
    pub timeout: Duration,
}

/// The stage of what is to be tried.
pub fn stage_of(opened: &Opened, addresses: &[Address]) -> Result<StageId, Trouble> {
    opened.told_stage(addresses.iter().find_map(|address| address.stage.as_ref()))
}

/// Tries the services of units.
pub fn probe(opened: &Opened, asked: &ToProbe<'_>) -> Result<ProbeReport, Trouble> {
    let ledger = &opened.ledger;
    let id = stage_of(opened, asked.addresses)?;
    let stage = ledger.stage(id);
    if stage.class == Class::Production && asked.countersign != Some(&stage.name) {
        let message = format!("this logs in to services of {}, a production stage", stage.name);
        return Err(Trouble::refused(message).help(format!("add --countersign {}", stage.name)));
    }
    if opened.granted().is_unsaid() {
        return Err(not_trusted("nothing is tried"));
    }
    let owners: Vec<&Owner> = asked.addresses.iter().filter_map(|address| address.owner.as_ref()).collect();
    let subjects: BTreeSet<Subject> = opened.subjects_in(owners, id)?.into_iter().collect();
    let resolver = opened.assuming(asked.assumptions);
    let planner = Planner { resolver: &resolver, keys: opened.keys() };
    let mut book = if asked.undelivered { Some(daybook::planning(opened)?) } else { None };
    let (mut all, mut not_tried) = (Vec::new(), Vec::new());
    for &subject in &subjects {
        let (mut found, mut without) = targets(&mut resolver.session(unit_of(subject)), subject, id);
        if let Some(book) = &mut book {
            let changed = changed(&planner, &mut **book, subject, id)?;
            found.retain(|target| target.addresses.iter().any(|address| changed.contains(address)));
            without.retain(|without| changed.contains(&without.address));
        }
        all.extend(found);
        not_tried.extend(without);
    }
    let all = merged(all);
    opened.require(&all.iter().flat_map(of_target).collect::<BTreeSet<_>>())?;
    opened.at.telling.detail(&format!("trying {} services", all.len()));
    let probed = Prober::new(Trust::of_system(), asked.timeout, (opened.at.clock)()).all(&all);
    Ok(ProbeReport {
        stage: stage.name.to_string(),
        class: stage.class.name(),
        undelivered: asked.undelivered,
        probed: all.into_iter().zip(probed).collect(),
        not_tried,
    })
}

/// The addresses of the entries of which a delivery would change something.
fn changed(
    planner: &Planner<'_, '_>,
    book: &mut dyn Daybook,
    subject: Subject,
    stage: StageId,
) -> Result<BTreeSet<String>, Trouble> {
    let of_stage = &planner.resolver.ledger().stage(stage).name;
    let owner = planner.resolver.ledger().owner(subject);
    let plan = plan(planner, book, subject, stage)?.map_err(|_| {
        let message = format!("nobody can tell what a delivery of `{owner}@{of_stage}` would change");
        Trouble::refused(message).help(format!("cledger deliver {owner}@{of_stage} says why"))
    })?;
    let changes = plan.changes();
    let entries = changes.keys().map(|field| field.split('.').next().unwrap_or(field));
    Ok(entries.map(|entry| format!("{owner}/{entry}@{of_stage}")).collect())
}
