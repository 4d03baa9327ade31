//! What was delivered, taken off the outlets again.

use cledger_core::address::Address;
use cledger_core::model::{LayerId, StageId, Subject};
use cledger_store::daybook::{Content, Daybook, Hold, Kind, Packed, Record};
use cledger_store::{Target, What, setting};

use crate::change::{CHANGES, Changing, Consent, countersigned};
use crate::daybook;
use crate::deliver::guards;
use crate::deliver::recorded::{Planner, meta};
use crate::meant::whole_unit;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::bring::Bringer;
use crate::reality::brought::Brought;
use crate::reality::load::Bringing;
use crate::trouble::{Kind as TroubleKind, Trouble};

/// What came of a withdrawal.
#[derive(Debug)]
pub struct Withdrawn {
    /// The unit or instance.
    pub owner: String,
    /// The stage.
    pub stage: String,
    /// The subject and the stage, for what follows.
    pub of: (Subject, StageId),
    /// The number of the delivery that is taken off.
    pub number: u64,
    /// The files and documents that go.
    pub names: Vec<String>,
    /// The outlets in which rows go.
    pub row_outlets: Vec<String>,
    /// What the outlets answered; nothing where it was only shown.
    pub brought: Vec<Brought>,
    /// Whether it was to be done, and not only shown.
    pub write: bool,
}

impl Withdrawn {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<TroubleKind> {
        (!self.is_well()).then_some(TroubleKind::Outside)
    }

    /// Whether all went well.
    pub fn is_well(&self) -> bool {
        self.brought.iter().all(Brought::is_well)
    }
}

/// Takes what was delivered of a unit to a stage off its outlets, or shows what that would be.
pub fn withdraw(
    opened: &Opened,
    address: &Address,
    consent: &Consent,
    write: bool,
) -> Result<Withdrawn, Trouble> {
    let owner = whole_unit(address)?;
    let ledger = &opened.ledger;
    let id = opened.stage(address.stage.as_ref())?.stage;
    let subject = opened.subject_in(owner, id)?;
    let resolver = opened.resolver();
    let planner = Planner { resolver: &resolver, keys: opened.keys() };
    let mut book = daybook::for_writing(opened, write)?;
    let (stage, owner) = (ledger.stage(id).name.to_string(), owner.to_string());
    let (record, before) = delivered(&planner, &mut *book, &owner, id)?;
    let mut withdrawn = Withdrawn {
        number: record.meta.number,
        names: before.files.keys().chain(before.documents.keys()).cloned().collect(),
        row_outlets: before.rows.keys().cloned().collect(),
        of: (subject, id),
        brought: Vec::new(),
        write,
        owner,
        stage,
    };
    if !write {
        return Ok(withdrawn);
    }
    countersigned(&opened.at, &[ledger.stage(id)], &consent.countersign, CHANGES)?;
    let why = consent.why.as_deref();
    let why = why.ok_or_else(|| Trouble::usage("a withdrawal has a reason").help("add --why TEXT"))?;
    let (owner, stage) = (&withdrawn.owner, &withdrawn.stage);
    let mut meta = meta(opened, owner, stage, Kind::Withdrawn, daybook::reason(why)?);
    let mut hold = Hold::take(&mut *book, owner, stage)?;
    daybook::refuse_left_open(hold.book(), Some(owner), stage)?;
    guards::unchanged(hold.book(), (owner, stage), Some(&record))?;
    let packed = Packed::default();
    hold.book().open(&meta, &packed)?;
    let around = Around::of(opened);
    let bringer = Bringer { opened, resolver: &resolver, around: &around };
    let nothing = Content::default();
    let bringing = Bringing { content: &nothing, before: Some(&before), is_of_ledger: false };
    withdrawn.brought = bringer.bring(subject, id, &bringing)?;
    meta.outlets = withdrawn.brought.iter().map(Brought::answer).collect();
    if withdrawn.brought.iter().all(Brought::is_without_effect) {
        hold.book().close(owner, stage)?;
    } else {
        hold.book().record(meta, &packed)?;
    }
    drop(hold);
    Ok(withdrawn)
}

/// What is there of a unit in a stage, as it was delivered last.
fn delivered(
    planner: &Planner<'_, '_>,
    book: &mut dyn Daybook,
    owner: &str,
    stage: StageId,
) -> Result<(Record, Content), Trouble> {
    let last = planner.last(book, owner, stage)?;
    last.filter(|(record, _)| record.meta.kind == Kind::Delivered).ok_or_else(|| {
        let name = &planner.resolver.ledger().stage(stage).name;
        Trouble::usage(format!("`{owner}@{name}` has nothing delivered that could be withdrawn"))
            .help(format!("`cledger history {owner}@{name}` shows what there was"))
    })
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
