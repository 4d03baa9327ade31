//! What a delivery overwrote or deleted that was not ours: shown, written to a folder, and brought back.

use std::path::{Path, PathBuf};

use cledger_core::address::{Address, Delivery as Numbered, Owner};
use cledger_core::model::LayerId;
use cledger_store::daybook::{Daybook as _, Kind, Record};
use cledger_store::{Mode, write_atomically};

use crate::bringing::at::AtOutlet;
use crate::bringing::baseline::Baseline;
use crate::bringing::before::Before;
use crate::bringing::bring::{Bringer, Purpose, kept_before};
use crate::bringing::brought::Brought;
use crate::bringing::effects::Effects;
use crate::bringing::grounds::Grounds;
use crate::bringing::plan::From;
use crate::bringing::returning::Returning;
use crate::bringing::rules::{Edits, Rules};
use crate::bringing::whom::Whom;
use crate::change::{CHANGES, Consent, countersigned};
use crate::daybook;
use crate::deliver::delivering::record as recorded;
use crate::deliver::guards;
use crate::deliver::history::record;
use crate::deliver::recorded::{Planner, meta};
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::masking::masking;
use crate::shared_book::{Held, SharedBook};
use crate::trouble::{Kind as TroubleKind, Trouble};

/// What was overwritten.
#[derive(Debug)]
pub struct Overwritten {
    /// By which record.
    pub record: Record,
    /// Where, each with how many lines there were: the outlet, or the outlet and the file's path.
    pub places: Vec<(String, usize)>,
    /// Where it was written to, if it was.
    pub out: Option<PathBuf>,
}

/// What bringing it back comes to.
#[derive(Debug)]
pub struct BroughtBack {
    /// The delivery that had overwritten it.
    pub of: String,
    /// What the outlets have, and what of that changes.
    pub outlets: Vec<AtOutlet>,
    /// What the outlets answered; nothing where it was only shown.
    pub brought: Vec<Brought>,
    /// The number under which that is recorded.
    pub number: Option<u64>,
    /// Whether it was to be done, and not only shown.
    pub write: bool,
}

impl BroughtBack {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<TroubleKind> {
        let is_unknown = self.outlets.iter().any(|outlet| outlet.reason().is_some());
        if is_unknown || !self.brought.iter().all(Brought::is_well) {
            return Some(TroubleKind::Outside);
        }
        (!self.write && self.is_blocked()).then_some(TroubleKind::Found)
    }

    /// Whether it would be refused, since something was edited by hand.
    pub fn is_blocked(&self) -> bool {
        self.outlets.iter().any(|outlet| outlet.blocking().next().is_some())
    }
}

fn nothing(address: &Address) -> Trouble {
    Trouble::usage(format!("`{address}` has overwritten nothing that was not ours"))
        .help("`cledger history` lists the deliveries; `show UNIT@STAGE:NUMBER` tells what one brought")
}

/// Shows what a delivery has overwritten, and writes it to a folder if one is named, for its owner alone.
pub fn overwritten(opened: &Opened, address: &Address, out: Option<&Path>) -> Result<Overwritten, Trouble> {
    let record = record(&mut *daybook::required(opened)?, address)?;
    let content = daybook::content(&record, &opened.ledger, opened.keys())?;
    let mut places = Vec::new();
    for (place, kept) in &content.before {
        let text = Before::of_kept(kept).ok_or_else(|| {
            Trouble::refused(format!("what `{address}` has overwritten is not readable here"))
                .help("let a reader of the stage's key do it")
        })?;
        if let Some(out) = out {
            write_atomically(&out.join(place), text.text.as_bytes(), Mode::OwnerOnly)?;
        }
        places.push((place.clone(), text.text.lines().count()));
    }
    if places.is_empty() {
        return Err(nothing(address));
    }
    Ok(Overwritten { record, places, out: out.map(Path::to_owned) })
}

/// Brings what a delivery has overwritten back to the outlets, name by name as far as it was not ours, or shows what
/// that would be. It is recorded, and counts as edited by hand: the ledger does not say it.
pub fn bring_back(
    opened: &Opened,
    address: &Address,
    consent: &Consent,
    write: bool,
) -> Result<BroughtBack, Trouble> {
    let (Some(owner), Some(stage), Some(Numbered::Number(number))) =
        (&address.owner, &address.stage, &address.delivery)
    else {
        return Err(Trouble::usage(format!("`{address}` names no delivery")).help("write UNIT@STAGE:NUMBER"));
    };
    let ledger = &*opened.ledger;
    let id = crate::meant::known_stage(ledger, stage.as_str())?;
    let subject = opened.subject_in(owner, id)?;
    let (resolver, world) = (opened.resolver(), Around::of(opened));
    let planner = Planner { resolver: &resolver, keys: opened.keys() };
    let effects = Effects::new(opened, &world, &resolver);
    let bringer = Bringer { opened, around: &world, effects: &effects };
    let book = SharedBook::new(daybook::for_writing(opened, write)?);
    let whom = Whom { owner: owner.clone(), subject: Some(subject), stage: id };
    let name = Owner::to_string(owner);
    let mut held = Held::take(&book, &name, stage.as_str())?;
    let book = &mut held.book;
    let overwriting = record(book, address)?;
    let overwritten = planner.content(&overwriting)?;
    if overwritten.before.is_empty() {
        return Err(nothing(address));
    }
    let Some((last, delivered)) = planner.last(book, &name, id)? else { return Err(nothing(address)) };
    if last.meta.kind == Kind::Withdrawn {
        return Err(Trouble::refused(format!(
            "`{name}@{stage}` was withdrawn since, with what was there before"
        )));
    }
    let rules = Rules::of(&Edits::default(), opened.at.today()?).without_waivers();
    let grounds = Grounds::read(&planner, book, &whom, rules)?;
    let baseline = Baseline::read_before(&planner, book, &whom, overwriting.meta.place)?;
    let returning = Returning { overwritten, baseline };
    let bringing = grounds.bringing(ledger, &whom, &delivered, From::Back(&returning));
    let ways = bringer.plan(&bringing)?;
    guards::reached(&whom, ledger, ways.iter().map(|way| &way.at))?;
    let mut back = BroughtBack {
        of: format!("{name}@{stage}:{number}"),
        outlets: Vec::new(),
        brought: Vec::new(),
        number: None,
        write,
    };
    if !write {
        back.outlets = ways.into_iter().map(|way| way.at).collect();
        return Ok(back);
    }
    guards::edits(&whom, ledger, ways.iter().map(|way| &way.at), false).map_err(|trouble| {
        trouble.help(format!(
            "take it into the ledger first (`cledger drift {name}@{stage}` shows it); or write what was overwritten \
             to files: --out DIR"
        ))
    })?;
    countersigned(&opened.at, &[ledger.stage(id)], &consent.countersign, CHANGES)?;
    let why = consent.why.as_deref();
    let why = why.ok_or_else(|| Trouble::usage("bringing it back has a reason").help("add --why TEXT"))?;
    let (scope, keys) = (ledger.key_scope(LayerId::Stage(id)), opened.keys_anew());
    let mut kept = delivered.clone();
    kept.before = kept_before(&ways, keys.has_key(&scope));
    let mut meta = meta(opened, &name, stage.as_str(), Kind::Put, daybook::reason(why)?);
    meta.chores.clone_from(&last.meta.chores);
    let packed = daybook::pack(book, (&keys, &scope), &kept, &mut meta)?;
    opened.at.stepping.before("open")?;
    let token = book.open(&meta, &packed)?;
    let masking = masking(&resolver, Some(subject), id, [Some(&delivered), None]);
    let brought = bringer.bring(ways, &bringing, (&masking, Purpose::Bring))?;
    let (brought, made) = recorded((opened, book), (meta, &packed), &token, brought, false)?;
    back.brought = brought;
    back.number = made.map(|record| record.meta.number);
    Ok(back)
}
