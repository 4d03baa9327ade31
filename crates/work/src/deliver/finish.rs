//! Finishing what an interrupted program has left open.

use cledger_core::model::{LayerId, StageId, Subject};
use cledger_store::daybook::{Daybook as _, Kind, Open};

use crate::bringing::baseline::{content_of, left_open};
use crate::bringing::bring::Purpose;
use crate::bringing::brought::Brought;
use crate::bringing::grounds::Grounds;
use crate::bringing::plan::From;
use crate::bringing::whom::Whom;
use crate::change::{CHANGES, countersigned};
use crate::daybook;
use crate::deliver::by_hand;
use crate::deliver::delivering::{Delivering, Recorded, record};
use crate::deliver::guards;
use crate::reality::masking::masking;
use crate::shared_book::Held;
use crate::trouble::Trouble;

/// What was left open, by whom and when.
pub(crate) fn told(open: &Open) -> String {
    let what = if open.meta.kind == Kind::Withdrawn { "A withdrawal" } else { "A delivery" };
    let meta = &open.meta;
    format!("{what} of {}@{} was left open by {} at {}", meta.unit, meta.stage, meta.who, meta.time)
}

impl Delivering<'_, '_> {
    /// Finishes a delivery of a unit to a stage that was left open, or says that there is one.
    pub(crate) fn finish_open(&mut self, subject: Subject, stage: StageId) -> Result<(), Trouble> {
        let opened = self.opened;
        let ledger = &*opened.ledger;
        let (owner, name) = (ledger.owner(subject).to_string(), ledger.stage(stage).name.to_string());
        let Some(open) = left_open(&mut self.book, &owner, &name)? else { return Ok(()) };
        let left = told(&open);
        if !self.asked.write {
            opened.at.telling.notice(&format!("{left}. With --write it is finished first."));
            return Ok(());
        }
        if open.meta.kind == Kind::Withdrawn {
            let help = format!("finish that first: cledger withdraw {owner}@{name} --write");
            return Err(Trouble::refused(left).help(help));
        }
        countersigned(&opened.at, &[ledger.stage(stage)], &self.asked.consent.countersign, CHANGES)?;
        let finished = self.finish(&Whom::of(ledger, subject, stage), (&owner, &name))?;
        let Some((brought, recorded)) = finished else {
            opened.at.telling.notice(&format!("{left}, and somebody else has finished it meanwhile."));
            return Ok(());
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

    /// Brings what is open to the outlets, over nothing that is not ours; none where it is not open any more once
    /// it is held.
    fn finish(&mut self, whom: &Whom, (owner, name): (&str, &str)) -> Result<Option<Recorded>, Trouble> {
        let rules = self.rules()?;
        let ledger = &*self.opened.ledger;
        let bringer = self.bringer();
        let mut held = Held::take(&self.book, owner, name)?;
        let book = &mut held.book;
        let Some(open) = left_open(book, owner, name)? else { return Ok(None) };
        let content = content_of(&self.planner, &open)?;
        let rules = rules.having_left(&open.meta.left);
        let mut grounds = Grounds::read(&self.planner, book, whom, rules)?;
        grounds.baseline = grounds.baseline.with_open(&open, &content);
        let bringing = grounds.bringing(ledger, whom, &content, From::Earlier);
        let planned = bringer.plan(&bringing)?;
        guards::reached(whom, ledger, planned.iter().map(|planned| &planned.at))?;
        guards::edits(whom, ledger, planned.iter().map(|planned| &planned.at), bringing.rules.overwrite)?;
        let mut meta = open.meta.clone();
        meta.finished_by = Some(self.opened.at.who());
        let scope = ledger.key_scope(LayerId::Stage(whom.stage));
        let keys = self.opened.keys_anew();
        let packed = daybook::pack(book, (&keys, &scope), &content, &mut meta)?;
        self.opened.at.stepping.before("take up")?;
        let token = book.take_up(&open)?;
        let contents = [Some(&content), None];
        let masking = masking(self.planner.resolver, whom.subject, whom.stage, contents);
        self.effects.anew();
        let mut brought = bringer.bring(planned, &bringing, (&masking, Purpose::Finish))?;
        brought.extend(by_hand::brought(ledger, &whom.owner, whom.stage, None));
        record((self.opened, book), (meta, &packed), &token, brought, false).map(Some)
    }
}
