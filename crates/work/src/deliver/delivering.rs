//! One delivery on its way: held, looked at once more, put down as open, brought, recorded.

use std::collections::BTreeMap;

use cledger_core::delivery::open_after;
use cledger_core::model::LayerId;
use cledger_outlets::effect::Masking;
use cledger_store::commit_of;
use cledger_store::daybook::{Daybook, Meta, Packed, Record, Wanted};

use crate::anchor;
use crate::bringing::bring::{Bringer, OnItsWay, Purpose, kept_before, left};
use crate::bringing::brought::Brought;
use crate::bringing::effects::Effects;
use crate::bringing::grounds::Grounds;
use crate::bringing::plan::{From, Planned};
use crate::bringing::rules::Rules;
use crate::bringing::whom::Whom;
use crate::daybook;
use crate::deliver::asked::ToDeliver;
use crate::deliver::by_hand;
use crate::deliver::guards;
use crate::deliver::plan::Plan;
use crate::deliver::recorded::{Planner, meta, past};
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::shared_book::{Held, SharedBook};
use crate::trouble::Trouble;

/// Everything that deliveries need.
pub(crate) struct Delivering<'a, 'l> {
    pub(crate) opened: &'a Opened,
    pub(crate) asked: &'a ToDeliver,
    pub(crate) planner: Planner<'a, 'l>,
    pub(crate) around: &'a Around<'a>,
    pub(crate) effects: &'a Effects<'a>,
    pub(crate) book: SharedBook,
    /// The numbers of the deliveries that are brought again, by unit.
    pub(crate) again: BTreeMap<String, u64>,
}

/// What came of one delivery: what the outlets answered, and the record, where one was made.
pub(crate) type Recorded = (Vec<Brought>, Option<Record>);

/// A unit that is held, and may be brought.
pub(crate) struct Ready<'a, 'l> {
    whom: Whom,
    grounds: Grounds<'l>,
    planned: Vec<Planned<'a>>,
}

/// A delivery that was brought, and is neither taken up nor recorded yet.
pub(crate) struct InHand<'a, 'l> {
    held: Held,
    whom: Whom,
    grounds: Grounds<'l>,
    meta: Meta,
    packed: Packed,
    token: String,
    way: OnItsWay<'a>,
}

impl InHand<'_, '_> {
    /// Whether all of it came where it was to come, as far as that shows by now.
    pub(crate) fn is_well(&self) -> bool {
        self.way.is_well()
    }
}

impl<'a, 'l> Delivering<'a, 'l> {
    /// What brings things to outlets.
    pub(crate) fn bringer(&self) -> Bringer<'a> {
        Bringer { opened: self.opened, around: self.around, effects: self.effects }
    }

    /// What somebody said to what is not ours.
    pub(crate) fn rules(&self) -> Result<Rules, Trouble> {
        let rules = Rules::of(&self.asked.edits, self.opened.at.today()?);
        if self.asked.only.is_empty() {
            return Ok(rules);
        }
        Ok(rules.only(super::only::patterns(&self.asked.only)?))
    }

    /// Where the content of a plan comes from.
    fn from(plan: &Plan) -> From<'static> {
        if plan.again.is_some() { From::Earlier } else { From::Ledger }
    }

    /// Holds the unit of a plan.
    pub(crate) fn hold(&self, plan: &Plan) -> Result<Held, Trouble> {
        let stage = self.opened.ledger.stage(plan.stage).name.as_str();
        Ok(Held::take(&self.book, &plan.owner, stage)?)
    }

    /// Looks once more at what is held, and refuses what must not be brought over what is there now.
    pub(crate) fn look_again(&self, plan: &Plan, held: &mut Held) -> Result<Ready<'a, 'l>, Trouble> {
        let ledger = &*self.opened.ledger;
        let (owner, name) = (plan.owner.as_str(), ledger.stage(plan.stage).name.as_str());
        let whom = Whom::of(ledger, plan.subject, plan.stage);
        let book = &mut held.book;
        guards::unchanged(book, (owner, name), plan.last.as_ref().map(|(record, _)| record.meta.number))?;
        let grounds = Grounds::read(&self.planner, book, &whom, self.rules()?)?;
        let bringing = grounds.bringing(ledger, &whom, &plan.content, Self::from(plan));
        let planned = self.bringer().plan(&bringing)?;
        guards::reached(&whom, ledger, planned.iter().map(|planned| &planned.at))?;
        guards::edits(&whom, ledger, planned.iter().map(|planned| &planned.at), bringing.rules.overwrite)?;
        for outlet in planned.iter().filter_map(|planned| planned.sight.place.outlet) {
            self.effects.require(&outlet.effect, &whom.owner, whom.stage)?;
        }
        Ok(Ready { whom, grounds, planned })
    }

    /// Looks at what is held once more, puts its delivery down as open, and brings it.
    pub(crate) fn bring(&self, plan: &Plan, why: &str, mut held: Held) -> Result<InHand<'a, 'l>, Trouble> {
        let ledger = &*self.opened.ledger;
        let (owner, name) = (plan.owner.as_str(), ledger.stage(plan.stage).name.as_str());
        let Ready { whom, grounds, planned } = self.look_again(plan, &mut held)?;
        let bringing = grounds.bringing(ledger, &whom, &plan.content, Self::from(plan));
        let book = &mut held.book;
        let scope = ledger.key_scope(LayerId::Stage(plan.stage));
        let mut content = plan.content.clone();
        // The key may have been rotated since the ledger was read.
        let keys = self.opened.keys_anew();
        content.before = kept_before(&planned, keys.has_key(&scope));
        let mut meta = meta(self.opened, owner, name, self.asked.kind, why);
        let packed = daybook::pack(book, (&keys, &scope), &content, &mut meta)?;
        meta.left = left(&planned);
        self.say(book, plan, &mut meta)?;
        self.opened.at.stepping.before("open")?;
        let token = book.open(&meta, &packed)?;
        let way = self.bringer().send(planned, &bringing, Purpose::Bring)?;
        Ok(InHand { held, whom, grounds, meta, packed, token, way })
    }

    /// Says in a record what is known of a delivery beside its content.
    fn say(&self, book: &mut dyn Daybook, plan: &Plan, meta: &mut Meta) -> Result<(), Trouble> {
        let ledger = &*self.opened.ledger;
        meta.version.clone_from(&plan.version);
        meta.contract.clone_from(&plan.contract);
        meta.again = plan.again;
        meta.stages_left_out = self.asked.skip_stages;
        meta.untested = plan.untested.keys().cloned().collect();
        meta.only = !self.asked.only.is_empty();
        let entries = book.entries(&Wanted::of(&meta.unit, &meta.stage), false)?;
        let history: Vec<_> = entries.iter().map(|entry| past(&entry.meta)).collect();
        let changes = plan.changes();
        let fields = changes.keys().map(String::as_str).collect();
        let mut chores = open_after(ledger, plan.subject, plan.stage, &history, &fields);
        if !is_old(plan) {
            chores.extend(plan.by_hand.iter().map(|(_, chore)| chore.clone()));
            chores.dedup();
        }
        meta.chores = Some(chores);
        if let Some((commit, uncommitted)) = commit_of(&self.opened.folder) {
            (meta.revision, meta.uncommitted) = (Some(commit), Some(uncommitted));
        }
        Ok(())
    }

    /// Has what was brought taken up, each program once for all units that share it.
    pub(crate) fn take_up(
        &self,
        in_hand: &mut InHand<'a, 'l>,
        plan: &Plan,
        masking: &Masking,
    ) -> Result<(), Trouble> {
        let InHand { whom, grounds, way, .. } = in_hand;
        let bringing = grounds.bringing(&self.opened.ledger, whom, &plan.content, Self::from(plan));
        self.bringer().take_up(way, &bringing, masking)
    }

    /// Waits until it counts, and looks whether it is there in the end.
    pub(crate) fn settle(&self, in_hand: &mut InHand<'a, 'l>, plan: &Plan) -> Result<(), Trouble> {
        let InHand { whom, grounds, way, .. } = in_hand;
        let bringing = grounds.bringing(&self.opened.ledger, whom, &plan.content, Self::from(plan));
        self.bringer().settle(way, &bringing)
    }

    /// Records what came of it.
    pub(crate) fn record(&self, in_hand: InHand<'a, 'l>, plan: &Plan) -> Result<Recorded, Trouble> {
        let InHand { mut held, whom, meta, packed, token, way, .. } = in_hand;
        let mut brought = way.end();
        let is_old = is_old(plan);
        if !is_old {
            brought.extend(by_hand::brought(&self.opened.ledger, &whom.owner, plan.stage, None));
        }
        record((self.opened, &mut held.book), (meta, &packed), &token, brought, is_old)
    }
}

/// Whether just this was brought last.
fn is_old(plan: &Plan) -> bool {
    !plan.is_under_former_name()
        && plan.delivered().is_some_and(|delivered| delivered.is_same_as(&plan.content))
}

/// Records what came of bringing what was put down as open. Where nothing came anywhere there was no delivery; nor
/// where all of it was there already, and recorded.
pub(crate) fn record(
    (opened, book): (&Opened, &mut dyn Daybook),
    (mut meta, packed): (Meta, &Packed),
    token: &str,
    brought: Vec<Brought>,
    is_old: bool,
) -> Result<Recorded, Trouble> {
    opened.at.stepping.before("record")?;
    let is_old = is_old && brought.iter().all(Brought::was_there);
    if is_old || brought.iter().all(Brought::is_without_effect) {
        book.close(&meta.unit, &meta.stage, token)?;
        return Ok((brought, None));
    }
    meta.outlets = brought.iter().map(Brought::answer).collect();
    let of = format!("{}@{}", meta.unit, meta.stage);
    let recorded = book.record(meta, packed, Some(token)).map_err(|error| {
        let told: Vec<String> =
            brought.iter().map(|it| format!("outlet {}: {}", it.outlet, it.word())).collect();
        let message = format!("{error}; what was brought is not recorded yet ({})", told.join(", "));
        Trouble::outside(message).help(format!("`cledger deliver {of} --write` finishes it"))
    })?;
    anchor::hold_fast(opened, &recorded);
    Ok((brought, Some(recorded)))
}
