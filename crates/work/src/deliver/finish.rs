//! Finishing what an interrupted program has left open.

use cledger_core::model::{StageId, Subject};
use cledger_store::daybook::Hold;

use crate::change::{CHANGES, countersigned};
use crate::daybook;
use crate::deliver::delivering::{Delivering, bring_and_record};
use crate::reality::bring::Bringer;
use crate::reality::brought::Brought;
use crate::reality::load::Bringing;
use crate::trouble::Trouble;

impl Delivering<'_, '_> {
    /// Finishes a delivery of a unit to a stage that was left open, or says that there is one.
    pub(crate) fn finish_open(&mut self, subject: Subject, stage: StageId) -> Result<(), Trouble> {
        let (opened, planner) = (self.opened, self.planner);
        let ledger = planner.resolver.ledger();
        let (owner, name) = (ledger.owner(subject).to_string(), ledger.stage(stage).name.to_string());
        let mut left = self.book.opened()?.into_iter();
        let Some((mut meta, packed)) = left.find(|(meta, _)| meta.unit == owner && meta.stage == name) else {
            return Ok(());
        };
        let left = format!("A delivery of {owner}@{name} was left open by {} at {}", meta.who, meta.time);
        if !self.asked.write {
            opened.at.telling.notice(&format!("{left}. With --write it is finished first."));
            return Ok(());
        }
        countersigned(&opened.at, &[ledger.stage(stage)], &self.asked.consent.countersign, CHANGES)?;
        let bringer = Bringer { opened, resolver: planner.resolver, around: &self.around };
        let (brought, recorded) = {
            let mut hold = Hold::take(&mut *self.book, &owner, &name)?;
            let content = daybook::unpacked(&meta, &packed, ledger, planner.keys)?;
            let last = planner.last(hold.book(), &owner, stage)?;
            meta.finished_by = Some(opened.at.who());
            let bringing = Bringing {
                content: &content,
                before: last.as_ref().map(|(_, content)| content),
                is_of_ledger: false,
            };
            bring_and_record(&bringer, hold.book(), (subject, stage), (meta, &packed), &bringing)?
        };
        let what = match recorded {
            Some(record) => format!("is finished as number {}", record.meta.number),
            None => "could not be finished, and nothing of it is there".to_owned(),
        };
        let troubles: Vec<&str> = brought.iter().filter_map(Brought::reason).collect();
        let troubles = if troubles.is_empty() { String::new() } else { format!(": {}", troubles.join("; ")) };
        opened.at.telling.notice(&format!("{left}, and {what}{troubles}."));
        Ok(())
    }
}
