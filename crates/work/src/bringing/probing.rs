//! The probes of a contract, asked after a delivery whether it counts.

use std::time::Duration;

use cledger_core::address::Owner;
use cledger_core::model::StageId;
use cledger_core::probe::{NotTried, Probed, Target, merged, of_contract};
use cledger_core::resolve::Resolver;
use cledger_core::trust::of_target;
use cledger_outlets::Trust;
use cledger_outlets::effect::until;
use cledger_outlets::probe::Prober;

use crate::bringing::plan::From;
use crate::meant::unit_of;
use crate::opened::Opened;
use crate::trouble::Trouble;

/// The longest that one round takes: another one may come out as expected.
const ROUND: Duration = Duration::from_secs(5);

/// Asks the probes of contracts.
pub(super) struct Probing<'p> {
    pub(super) opened: &'p Opened,
    pub(super) resolver: &'p Resolver<'p>,
    pub(super) trust: &'p Trust,
}

impl Probing<'_> {
    /// Refuses, before anything is brought, to try what nobody has said that the ledger may reach.
    pub(super) fn require(&self, owner: &Owner, stage: StageId) -> Result<(), Trouble> {
        let Some((targets, _)) = self.targets(owner, stage) else { return Ok(()) };
        self.opened.require(targets.iter().flat_map(of_target).collect::<Vec<_>>().iter())
    }

    /// What the contract of a unit expects in a stage, as far as it belongs there.
    fn targets(&self, owner: &Owner, stage: StageId) -> Option<(Vec<Target>, Vec<NotTried>)> {
        let subject = self.opened.ledger.subject_of(owner, stage)?;
        Some(of_contract(&mut self.resolver.session(unit_of(subject)), subject, stage))
    }

    /// Waits until all that the contract of a unit expects in a stage comes out so. The error says what did not;
    /// nothing where the contract expects nothing there, or what was brought is none of the ledger's.
    pub(super) fn wait(
        &self,
        (owner, stage): (&Owner, StageId),
        from: From<'_>,
        within: Duration,
    ) -> Option<Result<(), String>> {
        let (targets, not_tried) = self.targets(owner, stage)?;
        if targets.is_empty() && not_tried.is_empty() || matches!(from, From::Before(_)) {
            return None;
        }
        if !matches!(from, From::Ledger) {
            let of = format!("{owner}@{}", self.opened.ledger.stage(stage).name);
            return Some(Err(format!(
                "nothing was probed: the probes know the ledger's values alone (cledger probe {of})"
            )));
        }
        if let Some(without) = not_tried.first() {
            return Some(Err(format!("{}: {}", without.address, without.reason)));
        }
        let targets = merged(targets);
        Some(until(within, |left| {
            let round = Prober::new(self.trust.clone(), left.min(ROUND), (self.opened.at.clock)());
            let answers = round.all(&targets);
            let mut pairs = targets.iter().zip(&answers);
            match pairs.find(|(target, probed)| !target.wanted.is_met(probed)) {
                None => Ok(()),
                Some((target, probed)) => Err(otherwise(target, probed)),
            }
        }))
    }
}

/// What came back, and what was to come.
fn otherwise(target: &Target, probed: &Probed) -> String {
    let name = target.wanted.by.as_ref().map(ToString::to_string).unwrap_or_default();
    let wanted = target.wanted.told().unwrap_or_default();
    let (shown, answer) = (target.shown(), probed.answer.words());
    format!("probe `{name}` expects {wanted}, and `{shown}` says: {answer} ({})", probed.detail)
}
