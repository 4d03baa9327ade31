//! Withdrawals on their way: each held, looked at once more, put down as open, taken off, recorded.

use std::collections::BTreeMap;

use cledger_core::address::{Address, Owner};
use cledger_core::delivery::still_open;
use cledger_core::model::{LayerId, OutletKind};
use cledger_outlets::effect::Masking;
use cledger_store::daybook::{Content, Daybook, Kind, Meta, Open, Packed, Wanted};

use crate::bringing::at::Seen;
use crate::bringing::baseline::left_open;
use crate::bringing::bring::{Bringer, OnItsWay, Purpose, kept_before, left};
use crate::bringing::brought::Outcome;
use crate::bringing::effects::Effects;
use crate::bringing::grounds::Grounds;
use crate::bringing::plan::{Bringing, From, Planned};
use crate::bringing::restoring::Restoring;
use crate::bringing::rules::{Edits, Rules};
use crate::bringing::whom::Whom;
use crate::daybook;
use crate::deliver::at_once::{self, Pace, Tasks};
use crate::deliver::by_hand;
use crate::deliver::delivering::{Recorded, record};
use crate::deliver::guards;
use crate::deliver::recorded::{Planner, meta, past};
use crate::deliver::standing::whom;
use crate::deliver::withdrawn::Withdrawn;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::masking::masking_of;
use crate::reality::places::holder;
use crate::shared_book::{Held, SharedBook};
use crate::trouble::Trouble;

/// What it takes to withdraw.
pub(super) struct Withdrawing<'a, 'l> {
    pub(super) opened: &'a Opened,
    pub(super) planner: Planner<'a, 'l>,
    pub(super) around: &'a Around<'a>,
    pub(super) effects: &'a Effects<'a>,
    pub(super) edits: &'a Edits,
}

/// A unit that was taken off, which is neither taken up nor recorded yet.
struct InHand<'a, 'l> {
    held: Held,
    whom: Whom,
    grounds: Grounds<'l>,
    /// What the outlets have in place of it.
    restored: Content,
    meta: Meta,
    packed: Packed,
    token: String,
    way: OnItsWay<'a>,
    /// The units that have its place at an outlet now.
    handed_on: BTreeMap<String, String>,
    /// The number of the record that is taken off.
    number: u64,
}

/// Withdrawals that are made at once.
struct Withdrawals<'w, 'a, 'l> {
    withdrawing: &'w Withdrawing<'a, 'l>,
    book: &'w SharedBook,
    all: &'w [Withdrawn],
}

/// Makes the withdrawals that have a reason, and puts what came of each into it.
pub(super) fn make(
    (withdrawing, book): (&Withdrawing<'_, '_>, &SharedBook),
    all: &mut [Withdrawn],
    reasons: Vec<Option<String>>,
    pace: Pace,
) {
    let telling = &*withdrawing.opened.at.telling;
    withdrawing.effects.anew();
    let made = at_once::all(&Withdrawals { withdrawing, book, all }, telling, reasons, pace);
    for (at, recorded) in made {
        match recorded {
            Ok((brought, record)) => {
                all[at].brought = brought;
                all[at].recorded = record.map(|record| record.meta.number);
            }
            Err(trouble) => all[at].trouble = Some(trouble),
        }
    }
}

impl<'a, 'l> Tasks for Withdrawals<'_, 'a, 'l> {
    type InHand = InHand<'a, 'l>;

    const CALLED: &'static str = "withdrawals";

    fn bring(&self, at: usize, why: &str) -> Result<InHand<'a, 'l>, Trouble> {
        self.withdrawing.take_off(self.book, &self.all[at], why)
    }

    fn is_well(in_hand: &InHand<'a, 'l>) -> bool {
        in_hand.way.is_well()
    }

    fn ended(&self, at: usize, trouble: Option<&Trouble>) -> String {
        let Withdrawn { owner, stage, .. } = &self.all[at];
        match trouble {
            None => format!("{owner}@{stage}: taken off its outlets"),
            Some(trouble) => format!("{owner}@{stage}: not withdrawn: {trouble}"),
        }
    }

    fn masking(&self, in_hand: &[(usize, &InHand<'a, 'l>)]) -> Masking {
        let resolver = self.withdrawing.planner.resolver;
        let of = in_hand
            .iter()
            .map(|(_, it)| (resolver, it.whom.subject, it.whom.stage, [Some(&it.restored), None]));
        masking_of(of)
    }

    fn take_up(&self, _: usize, in_hand: &mut InHand<'a, 'l>, masking: &Masking) -> Result<(), Trouble> {
        self.withdrawing.take_up(in_hand, masking)
    }

    fn settle(&self, _: usize, in_hand: &mut InHand<'a, 'l>) -> Result<(), Trouble> {
        let InHand { whom, grounds, restored, way, .. } = in_hand;
        let nothing = Content::default();
        let ledger = &self.withdrawing.opened.ledger;
        let bringing = grounds.bringing(ledger, whom, &nothing, From::Before(restored));
        self.withdrawing.bringer().settle(way, &bringing)
    }

    fn record(&self, _: usize, in_hand: InHand<'a, 'l>) -> Result<Recorded, Trouble> {
        self.withdrawing.record(in_hand)
    }
}

impl<'a, 'l> Withdrawing<'a, 'l> {
    fn bringer(&self) -> Bringer<'a> {
        Bringer { opened: self.opened, around: self.around, effects: self.effects }
    }

    /// What each outlet is to have in place of what was delivered.
    pub(super) fn restored(
        &self,
        book: &mut dyn Daybook,
        whom: &Whom,
        grounds: &Grounds<'_>,
    ) -> Result<Content, Trouble> {
        let ledger = &self.opened.ledger;
        let restoring = Restoring::read(&self.planner, book, whom)?;
        let taking = ledger.outlets.iter().filter(|outlet| ledger.takes(outlet, whom.stage, &whom.owner));
        let outlets: Vec<(&str, &OutletKind)> =
            taking.map(|outlet| (outlet.name.as_str(), &outlet.kind)).collect();
        Ok(restoring.content(&outlets, &grounds.forms))
    }

    /// What taking it off means at each outlet; where another unit has its place by now, nothing.
    pub(super) fn planned(&self, whom: &Whom, bringing: &Bringing<'_>) -> Result<Vec<Planned<'a>>, Trouble> {
        let mut all = self.bringer().plan(bringing)?;
        for planned in all.iter_mut().filter(|_| whom.subject.is_none()) {
            let outlet = planned.sight.place.outlet;
            let to = outlet.and_then(|it| holder(&self.opened.ledger, it, whom.stage, &whom.owner));
            if let Some(to) = to {
                planned.hand_on(&to);
            }
        }
        Ok(all)
    }

    pub(super) fn rules(&self) -> Result<Rules, Trouble> {
        Ok(Rules::of(self.edits, self.opened.at.today()?).without_waivers())
    }

    /// Takes one off that is as it was when it was looked at.
    fn take_off(
        &self,
        book: &SharedBook,
        withdrawn: &Withdrawn,
        why: &str,
    ) -> Result<InHand<'a, 'l>, Trouble> {
        let ledger = &*self.opened.ledger;
        let (owner, stage) = (withdrawn.owner.clone(), withdrawn.stage.clone());
        let parsed = Address::parse(&owner)?.owner.unwrap_or(Owner::Shared);
        let whom = whom(self.opened, parsed, withdrawn.stage_id);
        let mut held = Held::take(book, &owner, &stage)?;
        let book = &mut held.book;
        guards::unchanged(book, (&owner, &stage), Some(withdrawn.number))?;
        let open = left_open(book, &owner, &stage)?;
        let grounds = Grounds::read(&self.planner, book, &whom, self.rules()?)?;
        let restored = self.restored(book, &whom, &grounds)?;
        let mut content = Content::default();
        let bringing = grounds.bringing(ledger, &whom, &content, From::Before(&restored));
        let planned = self.planned(&whom, &bringing)?;
        guards::reached(&whom, ledger, planned.iter().map(|planned| &planned.at))?;
        // Of an interrupted withdrawal something may be off already.
        guards::edits(&whom, ledger, planned.iter().map(|planned| &planned.at), bringing.rules.overwrite)?;
        let scope = ledger.key_scope(LayerId::Stage(whom.stage));
        let before = kept_before(&planned, self.planner.keys.has_key(&scope));
        let mut meta = meta(self.opened, &owner, &stage, Kind::Withdrawn, why);
        meta.left = left(&planned);
        let nothing = Content::default();
        let bringing = grounds.bringing(ledger, &whom, &nothing, From::Before(&restored));
        let packed = if before.is_empty() {
            Packed::default()
        } else {
            content.before = before;
            daybook::pack(book, (&self.opened.keys_anew(), &scope), &content, &mut meta)?
        };
        let is_finishing = open.is_some();
        let token = match open {
            Some(Open { meta: ref before, .. }) if before.kind != Kind::Withdrawn => {
                return Err(Trouble::refused(format!("a delivery of `{owner}@{stage}` was left open"))
                    .help(format!("finish it first: cledger deliver {owner}@{stage} --write")));
            }
            Some(open) => {
                self.opened.at.stepping.before("take up")?;
                meta.finished_by = Some(std::mem::replace(&mut meta.who, open.meta.who.clone()));
                book.take_up(&open)?
            }
            None => {
                self.opened.at.stepping.before("open")?;
                book.open(&meta, &packed)?
            }
        };
        let handed_on: BTreeMap<String, String> = planned.iter().filter_map(handed_on).collect();
        let purpose = if is_finishing { Purpose::FinishTakingOff } else { Purpose::TakeOff };
        let way = self.bringer().send(planned, &bringing, purpose)?;
        Ok(InHand {
            held,
            whom,
            grounds,
            restored,
            meta,
            packed,
            token,
            way,
            handed_on,
            number: withdrawn.number,
        })
    }

    /// Has what was taken off taken up.
    fn take_up(&self, in_hand: &mut InHand<'a, 'l>, masking: &Masking) -> Result<(), Trouble> {
        let InHand { whom, grounds, restored, way, .. } = in_hand;
        let nothing = Content::default();
        let bringing = grounds.bringing(&self.opened.ledger, whom, &nothing, From::Before(restored));
        self.bringer().take_up(way, &bringing, masking)
    }

    /// Records what came of it.
    fn record(&self, in_hand: InHand<'a, 'l>) -> Result<Recorded, Trouble> {
        let InHand { mut held, whom, mut meta, packed, token, way, handed_on, number, .. } = in_hand;
        let ledger = &*self.opened.ledger;
        let mut brought = way.end();
        for brought in &mut brought {
            if let Some(to) = handed_on.get(&brought.outlet) {
                brought.outcome = Outcome::HandedOn(format!("its place is that of {to} now"));
            }
        }
        brought.extend(by_hand::brought(ledger, &whom.owner, whom.stage, Some(number)));
        let book = &mut held.book;
        let entries = book.entries(&Wanted::of(&meta.unit, &meta.stage), false)?;
        let history: Vec<_> = entries.iter().map(|entry| past(&entry.meta)).collect();
        let chores = still_open(&history).into_iter().chain(by_hand::chores(&brought));
        meta.chores = Some(chores.collect());
        record((self.opened, book), (meta, &packed), &token, brought, false)
    }
}

/// An outlet whose place is another unit's by now, and that unit.
fn handed_on(planned: &Planned<'_>) -> Option<(String, String)> {
    match &planned.at.seen {
        Seen::HandedOn(to) => Some((planned.at.outlet.clone(), to.clone())),
        _ => None,
    }
}
