//! What was delivered, taken off the outlets again, and what was there before brought back.

use std::collections::BTreeSet;

use cledger_core::delivery::Arrived;
use cledger_core::model::{LayerId, StageId, Subject};
use cledger_store::daybook::{AnswerState, Content, Daybook, Kind, Member, Meta, Wanted};
use cledger_store::{Target, What, setting};

use crate::bringing::baseline::left_open;
use crate::bringing::brought::Brought;
use crate::bringing::effects::Effects;
use crate::bringing::grounds::Grounds;
use crate::bringing::plan::From;
use crate::bringing::rules::Edits;
use crate::bringing::whom::Whom;
use crate::change::{CHANGES, Changing, Consent, countersigned};
use crate::daybook;
use crate::deliver::asked::AT_ONCE;
use crate::deliver::at_once::Pace;
use crate::deliver::bundle::Together;
use crate::deliver::delivering::Delivering;
use crate::deliver::finish::told;
use crate::deliver::recorded::{Planner, arrived};
use crate::deliver::standing::{standing, whoms};
use crate::deliver::taking_off::{self, Withdrawing};
pub use crate::deliver::withdrawn::Withdrawn;
use crate::gate;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::several::each;
use crate::shared_book::{Held, SharedBook};
use crate::trouble::Trouble;
use crate::whole_units::WholeUnits;

/// What is to be withdrawn.
#[derive(Debug, Clone)]
pub struct ToWithdraw {
    /// What becomes of what is there and not ours.
    pub edits: Edits,
    /// How many units are taken off at once.
    pub at_once: usize,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

impl Default for ToWithdraw {
    fn default() -> Self {
        let (edits, consent) = (Edits::default(), Consent::default());
        Self { edits, at_once: AT_ONCE, consent, write: false }
    }
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
    let effects = Effects::new(opened, &around, &resolver);
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
    let looked = each(whoms, asked.at_once, (&*opened.at.telling, "units"), |whom, _| {
        withdrawing.plan(&mut book.clone(), &whom, asked.write)
    });
    let mut all = looked.into_iter().collect::<Result<Vec<_>, _>>()?;
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
    let reasons = vec![Some(why.clone()); all.len()];
    let not_begun = together.is_some().then_some("mend that, and withdraw the bundle again");
    // What goes together goes in its order.
    let at_once = if together.is_some() { 1 } else { asked.at_once };
    let pace = Pace { at_once, not_begun, ..Pace::of(asked.at_once) };
    taking_off::make((&withdrawing, &book), &mut all, reasons, pace);
    if let ([one], None) = (&mut *all, &together)
        && let Some(trouble) = one.trouble.take()
    {
        return Err(trouble);
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

impl Withdrawing<'_, '_> {
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
    let is_meant = |whom: &Whom| {
        let now = || opened.ledger.now_called(&whom.owner);
        whom.subject.is_none()
            && (asked.what.is_all() || now().is_some_and(|now| asked.what.has(opened, &now)))
    };
    let whoms = standing(opened, book, stage)?.into_iter().filter(is_meant).collect();
    let planned = each(whoms, asked.at_once, (&*opened.at.telling, "left over"), |whom, _| {
        withdrawing.plan(&mut book.clone(), &whom, asked.write)
    });
    planned.into_iter().collect()
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
    let mut reasons = Vec::new();
    for withdrawn in &mut *left_over {
        if let Some(now) = withdrawn.now.as_ref().filter(|now| failed.contains(*now)) {
            let message = format!("it is called {now} now, and that was not delivered");
            withdrawn.trouble = Some(Trouble::refused(message));
            reasons.push(None);
            continue;
        }
        let drafted = || match &withdrawn.now {
            Some(now) => format!("{} is called {now} now.", withdrawn.owner),
            None => format!("{} does not belong to {} any more.", withdrawn.owner, withdrawn.stage),
        };
        reasons.push(Some(asked.consent.why.clone().unwrap_or_else(drafted)));
    }
    taking_off::make((&withdrawing, book), left_over, reasons, Pace::of(asked.at_once));
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
