//! Whether the services that units talk to in a stage answer.

use std::collections::BTreeSet;
use std::time::Duration;

use cledger_core::address::{Address, Owner};
use cledger_core::model::{Class, Subject};
use cledger_core::name::Name;
use cledger_core::probe::{Answer, NotTried, Probed, Target, merged, targets};
use cledger_core::trust::of_target;
use cledger_outlets::Trust;
use cledger_outlets::probe::Prober;

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
    /// The services, each with its answer.
    pub probed: Vec<(Target, Probed)>,
    /// What could not be tried.
    pub not_tried: Vec<NotTried>,
}

impl ProbeReport {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        let all_answer = self.probed.iter().all(|(_, probed)| probed.answer == Answer::Answers);
        (!(all_answer && self.not_tried.is_empty())).then_some(Kind::Found)
    }
}

/// Tries the services of the units that these addresses name, each of them for so long.
pub fn probe(
    opened: &Opened,
    addresses: &[Address],
    countersign: Option<&Name>,
    timeout: Duration,
) -> Result<ProbeReport, Trouble> {
    let ledger = &opened.ledger;
    let id = opened.told_stage(addresses.iter().find_map(|address| address.stage.as_ref()))?;
    let stage = ledger.stage(id);
    if stage.class == Class::Production && countersign != Some(&stage.name) {
        let message = format!("this logs in to services of {}, a production stage", stage.name);
        return Err(Trouble::refused(message).help(format!("add --countersign {}", stage.name)));
    }
    let owners: Vec<&Owner> = addresses.iter().filter_map(|address| address.owner.as_ref()).collect();
    let subjects: BTreeSet<Subject> = opened.subjects_in(owners, id)?.into_iter().collect();
    let resolver = opened.resolver();
    let (mut all, mut not_tried) = (Vec::new(), Vec::new());
    for subject in subjects {
        let (found, without) = targets(&mut resolver.session(unit_of(subject)), subject, id);
        all.extend(found);
        not_tried.extend(without);
    }
    let all = merged(all);
    if opened.granted().is_unsaid() {
        return Err(not_trusted("nothing is tried"));
    }
    opened.require(&all.iter().flat_map(of_target).collect::<BTreeSet<_>>())?;
    opened.at.telling.detail(&format!("trying {} services", all.len()));
    let probed = Prober::new(Trust::of_system(), timeout, (opened.at.clock)()).all(&all);
    Ok(ProbeReport {
        stage: stage.name.to_string(),
        class: stage.class.name(),
        probed: all.into_iter().zip(probed).collect(),
        not_tried,
    })
}
