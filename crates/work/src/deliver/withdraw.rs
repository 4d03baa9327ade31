//! What was delivered, taken off the outlets again, and what was there before brought back.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::address::{Address, Owner};
use cledger_core::delivery::{Arrived, still_open};
use cledger_core::model::{LayerId, OutletKind, StageId, Subject};
use cledger_store::daybook::{AnswerState, Content, Daybook, Kind, Member, Meta, Open, Packed, Wanted};
use cledger_store::{Target, What, setting};

use crate::bringing::at::{AtOutlet, Seen};
use crate::bringing::baseline::left_open;
use crate::bringing::bring::{Bringer, Purpose, kept_before, left};
use crate::bringing::brought::{Brought, Outcome};
use crate::bringing::effects::Effects;
use crate::bringing::grounds::Grounds;
use crate::bringing::plan::{Bringing, From, Planned};
use crate::bringing::restoring::Restoring;
use crate::bringing::rules::{Edits, Rules};
use crate::bringing::whom::Whom;
use crate::change::{CHANGES, Changing, Consent, countersigned};
use crate::daybook;
use crate::deliver::bundle::Together;
use crate::deliver::by_hand;
use crate::deliver::delivering::{Delivering, record};
use crate::deliver::finish::told;
use crate::deliver::guards;
use crate::deliver::recorded::{Planner, arrived, meta, past};
use crate::deliver::standing::{standing, whom, whoms};
use crate::gate;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::masking::masking;
use crate::reality::places::holder;
use crate::shared_book::{Held, SharedBook};
use crate::trouble::{Kind as TroubleKind, Trouble};
use crate::whole_units::WholeUnits;

/// What is to be withdrawn.
#[derive(Debug, Clone, Default)]
pub struct ToWithdraw {
    /// What becomes of what is there and not ours.
    pub edits: Edits,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

/// What came of a withdrawal.
#[derive(Debug)]
pub struct Withdrawn {
    /// The unit or instance.
    pub owner: String,
    /// The stage.
    pub stage: String,
    /// How it is called now, if it was only renamed.
    pub now: Option<String>,
    /// Who that is in the ledger, if it still belongs to the stage, for what follows.
    pub subject: Option<Subject>,
    /// The stage, for what follows.
    pub stage_id: StageId,
    /// The number of the record that is taken off.
    pub number: u64,
    /// Whether that is a withdrawal before, which did not come whole and is done again.
    pub again: bool,
    /// What the outlets have now, and what of that goes or is brought back.
    pub outlets: Vec<AtOutlet>,
    /// What the outlets answered; nothing where it was only shown.
    pub brought: Vec<Brought>,
    /// The number of the withdrawal, where it was made.
    pub recorded: Option<u64>,
    /// Whether it was to be done, and not only shown.
    pub write: bool,
    /// Whether what is not ours may be overwritten.
    pub overwrites: bool,
    /// Why it was not done, or not to its end.
    pub trouble: Option<Trouble>,
}

impl Withdrawn {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<TroubleKind> {
        if let Some(trouble) = &self.trouble {
            return Some(trouble.kind());
        }
        let is_unknown = self.outlets.iter().any(|outlet| outlet.reason().is_some());
        if is_unknown || !self.brought.iter().all(Brought::is_well) {
            return Some(TroubleKind::Outside);
        }
        let is_blocked = self.outlets.iter().any(|outlet| outlet.blocking().next().is_some());
        (is_blocked && !self.write && !self.overwrites).then_some(TroubleKind::Found)
    }

    /// Whether all went well.
    pub fn is_well(&self) -> bool {
        self.kind().is_none()
    }
}

/// What it takes to withdraw.
struct Withdrawing<'a, 'l> {
    opened: &'a Opened,
    planner: Planner<'a, 'l>,
    around: &'a Around<'a>,
    effects: &'a Effects<'a>,
    edits: &'a Edits,
}

/// What came of withdrawing units.
#[derive(Debug)]
pub struct AllWithdrawn {
    /// The bundle that was withdrawn, if it was one.
    pub together: Option<Together>,
    /// One for each unit.
    pub units: Vec<Withdrawn>,
}

/// Takes what was delivered of units to a stage off the outlets, or shows what that would be. A unit by its name need not
/// be in the ledger any more.
pub fn withdraw(opened: &Opened, what: &WholeUnits, asked: &ToWithdraw) -> Result<AllWithdrawn, Trouble> {
    what.refuse_mixed_bundle("withdrawn")?;
    let ledger = &opened.ledger;
    let id = opened.stage(what.stage.as_ref())?.stage;
    let resolver = opened.resolver();
    let planner = Planner { resolver: &resolver, keys: opened.keys() };
    let around = Around::of(opened);
    let effects = Effects::new(ledger, &around);
    let mut book = SharedBook::new(daybook::for_writing(opened, asked.write)?);
    let edits = &asked.edits;
    let withdrawing = Withdrawing { opened, planner, around: &around, effects: &effects, edits };
    let whoms = whoms(opened, &mut book, what, id)?;
    let mut together = match what.bundle() {
        Some(bundle) => {
            let members = opened.whole_units(what, id)?;
            Some(Together::read(opened, &mut book, bundle, (&members, id))?)
        }
        None => None,
    };
    let mut all = Vec::new();
    for whom in whoms {
        all.push(withdrawing.plan(&mut book, &whom, asked.write)?);
    }
    // What comes back was in order when it was there; what is said by now is named, and holds nothing up.
    let subjects: Vec<Subject> = all.iter().filter_map(|withdrawn| withdrawn.subject).collect();
    gate::tell_now(opened, &gate::holding_up(opened, &resolver, &subjects, id)?);
    if all.is_empty() {
        let message =
            format!("nothing of this is delivered to `{}` that could be withdrawn", ledger.stage(id).name);
        return Err(Trouble::usage(message));
    }
    if !asked.write {
        return Ok(AllWithdrawn { together, units: all });
    }
    countersigned(&opened.at, &[ledger.stage(id)], &asked.consent.countersign, CHANGES)?;
    let why = asked.consent.why.as_deref();
    let why = why.ok_or_else(|| Trouble::usage("a withdrawal has a reason").help("add --why TEXT"))?;
    let why = daybook::reason(why)?.to_owned();
    let own = together.as_ref().map(|it| Held::take(&book, &it.unit(), &it.stage)).transpose()?;
    let is_alone = all.len() == 1 && together.is_none();
    let mut has_failed = false;
    for withdrawn in &mut all {
        if has_failed && together.is_some() {
            let message = "it was not begun: another withdrawal failed before";
            withdrawn.trouble =
                Some(Trouble::refused(message).help("mend that, and withdraw the bundle again"));
            continue;
        }
        match withdrawing.carry_out(&book, withdrawn, &why) {
            Ok(()) => {}
            Err(trouble) if is_alone => return Err(trouble),
            Err(trouble) => withdrawn.trouble = Some(trouble),
        }
        has_failed |= !withdrawn.is_well();
    }
    if let Some(together) = &mut together {
        let members = all.iter().map(member).collect();
        together.record(opened, &mut book, (Kind::BundleWithdrawn, None), &why, members)?;
    }
    drop(own);
    Ok(AllWithdrawn { together, units: all })
}

/// What came of a unit of a bundle.
fn member(withdrawn: &Withdrawn) -> Member {
    let states = || withdrawn.brought.iter().map(Brought::state);
    let state = match withdrawn.recorded {
        None => AnswerState::NotBrought,
        Some(_) if states().any(|state| state == AnswerState::NotKnown) => AnswerState::NotKnown,
        Some(_) if states().all(AnswerState::is_whole) => AnswerState::TakenOff,
        Some(_) => AnswerState::InPart,
    };
    let number = withdrawn.recorded.or(Some(withdrawn.number));
    Member { unit: withdrawn.owner.clone(), number, state }
}

impl<'a> Withdrawing<'a, '_> {
    fn bringer(&self) -> Bringer<'a> {
        Bringer { opened: self.opened, around: self.around, effects: self.effects }
    }

    /// What each outlet is to have in place of what was delivered.
    fn restored(
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
    fn planned(&self, whom: &Whom, bringing: &Bringing<'_>) -> Result<Vec<Planned<'a>>, Trouble> {
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

    fn rules(&self) -> Result<Rules, Trouble> {
        Ok(Rules::of(self.edits, self.opened.at.today()?).without_waivers())
    }

    /// What a withdrawal would be.
    fn plan(&self, book: &mut dyn Daybook, whom: &Whom, write: bool) -> Result<Withdrawn, Trouble> {
        let ledger = &*self.opened.ledger;
        let (owner, stage) = (whom.owner.to_string(), ledger.stage(whom.stage).name.to_string());
        let open = left_open(book, &owner, &stage)?;
        if let Some(open) = open.as_ref().filter(|open| open.meta.kind != Kind::Withdrawn) {
            let help =
                format!("finish it first: cledger deliver {owner}@{stage} --write; or drop it: --drop");
            return Err(Trouble::refused(told(open)).help(help));
        }
        let last = book.entries(&Wanted::last_of(&owner, &stage), false)?.pop();
        // A withdrawal that did not come whole is done again.
        let is_there = |meta: &Meta| {
            meta.kind.is_brought() || meta.kind == Kind::Withdrawn && arrived(meta) != Arrived::Whole
        };
        let Some(last) = last.filter(|entry| is_there(&entry.meta)) else {
            return Err(Trouble::usage(format!(
                "`{owner}@{stage}` has nothing delivered that could be withdrawn"
            ))
            .help(format!("`cledger history {owner}@{stage}` shows what there was")));
        };
        let grounds = Grounds::read(&self.planner, book, whom, self.rules()?)?;
        let restored = self.restored(book, whom, &grounds)?;
        let nothing = Content::default();
        let bringing = grounds.bringing(ledger, whom, &nothing, From::Before(&restored));
        let planned = self.planned(whom, &bringing)?;
        Ok(Withdrawn {
            number: last.meta.number,
            again: last.meta.kind == Kind::Withdrawn,
            outlets: planned.into_iter().map(|planned| planned.at).collect(),
            subject: whom.subject,
            now: ledger.now_called(&whom.owner).map(|now| now.to_string()),
            stage_id: whom.stage,
            brought: Vec::new(),
            recorded: None,
            overwrites: self.edits.overwrite,
            trouble: None,
            write,
            owner,
            stage,
        })
    }

    /// Takes it off, and records that.
    fn carry_out(&self, book: &SharedBook, withdrawn: &mut Withdrawn, why: &str) -> Result<(), Trouble> {
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
        let masking = masking(self.planner.resolver, whom.subject, whom.stage, [Some(&restored), None]);
        let handed_on: BTreeMap<String, String> = planned.iter().filter_map(handed_on).collect();
        let purpose = if is_finishing { Purpose::FinishTakingOff } else { Purpose::TakeOff };
        let mut brought = self.bringer().bring(planned, &bringing, (&masking, purpose))?;
        for brought in &mut brought {
            if let Some(to) = handed_on.get(&brought.outlet) {
                brought.outcome = Outcome::HandedOn(format!("its place is that of {to} now"));
            }
        }
        brought.extend(by_hand::brought(ledger, &whom.owner, whom.stage, Some(withdrawn.number)));
        let entries = book.entries(&Wanted::of(&owner, &stage), false)?;
        let history: Vec<_> = entries.iter().map(|entry| past(&entry.meta)).collect();
        let chores = still_open(&history).into_iter().chain(by_hand::chores(&brought));
        meta.chores = Some(chores.collect());
        let (brought, recorded) = record((self.opened, book), (meta, &packed), &token, brought, false)?;
        withdrawn.brought = brought;
        withdrawn.recorded = recorded.map(|record| record.meta.number);
        Ok(())
    }
}

/// An outlet whose place is another unit's by now, and that unit.
fn handed_on(planned: &Planned<'_>) -> Option<(String, String)> {
    match &planned.at.seen {
        Seen::HandedOn(to) => Some((planned.at.outlet.clone(), to.clone())),
        _ => None,
    }
}

/// What a stage still has of units that do not belong to it any more; where some units are delivered alone, of what
/// these were called before.
pub(super) fn left_over(
    delivering: &mut Delivering<'_, '_>,
    stage: StageId,
) -> Result<Vec<Withdrawn>, Trouble> {
    let (opened, asked) = (delivering.opened, delivering.asked);
    let Delivering { planner, around, effects, book, .. } = delivering;
    let edits = &asked.edits;
    let withdrawing = Withdrawing { opened, planner: *planner, around, effects, edits };
    let mut left_over = Vec::new();
    let is_meant = |whom: &Whom| {
        let now = || opened.ledger.now_called(&whom.owner);
        whom.subject.is_none()
            && (asked.what.is_all() || now().is_some_and(|now| asked.what.has(opened, &now)))
    };
    for whom in standing(opened, book, stage)?.into_iter().filter(is_meant) {
        left_over.push(withdrawing.plan(book, &whom, asked.write)?);
    }
    Ok(left_over)
}

/// Takes off what is left over; of a unit that was renamed only once it is there under its new name.
pub(super) fn all_left_over(
    delivering: &mut Delivering<'_, '_>,
    left_over: &mut [Withdrawn],
    failed: &BTreeSet<String>,
) {
    let (opened, asked) = (delivering.opened, delivering.asked);
    let Delivering { planner, around, effects, book, .. } = delivering;
    let edits = &asked.edits;
    let withdrawing = Withdrawing { opened, planner: *planner, around, effects, edits };
    for withdrawn in left_over {
        if let Some(now) = withdrawn.now.as_ref().filter(|now| failed.contains(*now)) {
            let message = format!("it is called {now} now, and that was not delivered");
            withdrawn.trouble = Some(Trouble::refused(message));
            continue;
        }
        let drafted = || match &withdrawn.now {
            Some(now) => format!("{} is called {now} now.", withdrawn.owner),
            None => format!("{} does not belong to {} any more.", withdrawn.owner, withdrawn.stage),
        };
        let why = asked.consent.why.clone().unwrap_or_else(drafted);
        if let Err(trouble) = withdrawing.carry_out(book, withdrawn, &why) {
            withdrawn.trouble = Some(trouble);
        }
    }
}

/// Takes all settings of a unit or instance for a stage out of the ledger.
pub fn take_settings_out(
    changing: &Changing,
    (subject, stage): (Subject, StageId),
    consent: &Consent,
) -> Result<(), Trouble> {
    let ledger = changing.ledger();
    let layer = LayerId::Stage(stage);
    let slots = ledger.slots(subject).all();
    let set = slots.filter(|&slot| ledger.setting_at(layer, subject, slot).is_some());
    let remove = |slot| setting(ledger, Target::Layer(layer), subject, slot, What::Remove);
    let edits: Vec<_> = set.map(remove).collect();
    let planned = changing.plan(&edits)?;
    changing.guard(&[layer], &planned, consent)?;
    changing.write(&planned)
}
