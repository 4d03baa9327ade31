//! One delivery on its way: held, put down as open, brought, recorded.

use cledger_core::model::{LayerId, StageId, Subject};
use cledger_store::commit_of;
use cledger_store::daybook::{Daybook, Hold, Kind, Meta, Packed, Record};

use crate::deliver::guards;
use crate::deliver::outcome::ToDeliver;
use crate::deliver::plan::Plan;
use crate::deliver::recorded::{Planner, meta};
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::bring::Bringer;
use crate::reality::brought::Brought;
use crate::reality::load::Bringing;
use crate::trouble::Trouble;

/// Everything that deliveries need.
pub(crate) struct Delivering<'a, 'l> {
    pub(crate) opened: &'a Opened,
    pub(crate) asked: &'a ToDeliver,
    pub(crate) planner: Planner<'a, 'l>,
    pub(crate) around: Around<'a>,
    pub(crate) book: Box<dyn Daybook>,
}

/// What came of one delivery: what the outlets answered, and the record, where one was made.
pub(crate) type Recorded = (Vec<Brought>, Option<Record>);

impl<'l> Delivering<'_, 'l> {
    /// What brings things to outlets.
    pub(crate) fn bringer(&self) -> Bringer<'l, '_> {
        Bringer { opened: self.opened, resolver: self.planner.resolver, around: &self.around }
    }

    /// Brings a unit to its outlets, and records what came of it.
    pub(crate) fn deliver(&mut self, plan: &Plan, why: &str) -> Result<Recorded, Trouble> {
        let ledger = self.planner.resolver.ledger();
        let (owner, name) = (plan.owner.as_str(), ledger.stage(plan.stage).name.as_str());
        let bringer = Bringer { opened: self.opened, resolver: self.planner.resolver, around: &self.around };
        let mut hold = Hold::take(&mut *self.book, owner, name)?;
        guards::unchanged(hold.book(), (owner, name), plan.last.as_ref().map(|(record, _)| record))?;
        let scope = ledger.key_scope(LayerId::Stage(plan.stage));
        let (packed, hashes) = plan.content.pack(self.planner.keys, &scope, (owner, name))?;
        let mut meta = meta(self.opened, owner, name, Kind::Delivered, why);
        meta.version.clone_from(&plan.version);
        meta.contract.clone_from(&plan.contract);
        (meta.open, meta.secrets) = (hashes.open, hashes.secrets);
        meta.again = plan.again;
        meta.stages_left_out = self.asked.skip_stages;
        if let Some((commit, uncommitted)) = commit_of(&self.opened.folder) {
            (meta.revision, meta.uncommitted) = (Some(commit), Some(uncommitted));
        }
        hold.book().open(&meta, &packed)?;
        let bringing =
            Bringing { content: &plan.content, before: plan.delivered(), is_of_ledger: plan.again.is_none() };
        bring_and_record(&bringer, hold.book(), (plan.subject, plan.stage), (meta, &packed), &bringing)
    }
}

/// Brings what was put down as open, and records it. Where nothing came anywhere there was no delivery; nor
/// where all of it was there already.
pub(crate) fn bring_and_record(
    bringer: &Bringer<'_, '_>,
    book: &mut dyn Daybook,
    (subject, stage): (Subject, StageId),
    (mut meta, packed): (Meta, &Packed),
    bringing: &Bringing<'_>,
) -> Result<Recorded, Trouble> {
    let brought = bringer.bring(subject, stage, bringing)?;
    let is_old = bringing.before == Some(bringing.content) && brought.iter().all(Brought::was_there);
    if is_old || brought.iter().all(Brought::is_without_effect) {
        book.close(&meta.unit, &meta.stage)?;
        return Ok((brought, None));
    }
    meta.outlets = brought.iter().map(Brought::answer).collect();
    let of = format!("{}@{}", meta.unit, meta.stage);
    let recorded = book.record(meta, packed).map_err(|error| {
        let told: Vec<String> =
            brought.iter().map(|it| format!("outlet {}: {}", it.outlet, it.word())).collect();
        let message = format!("{error}; what was brought is not recorded yet ({})", told.join(", "));
        Trouble::outside(message).help(format!("`cledger deliver {of} --write` finishes it"))
    })?;
    Ok((brought, Some(recorded)))
}
