//! What was delivered to one stage, moved up to the next.
//!
//! `fields` says what moving one unit means for each of its fields, `live` puts what outlets have in place of what was delivered.

mod fields;
mod live;

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use cledger_core::address::{Address, Delivery};
use cledger_core::kept::Kept;
use cledger_core::model::{LayerId, Ledger, Note, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::promotion::Fate;
use cledger_store::daybook::{Content, Daybook, Record, Wanted, bound_to_digests};
use cledger_store::{Edit, Keys, Scope};
use zeroize::Zeroizing;

pub use self::fields::{Field, NotCarried, NotRead, Promotion};

use self::fields::{Carry, of_unit};
use crate::answers::{Answers, Question};
use crate::change::{Changing, Consent, NO_CHANGE};
use crate::daybook;
use crate::deliver::bundle::record_of;
use crate::deliver::recorded::Planner;
use crate::deliver::{Delivered, Edits, ToDeliver, deliver};
use crate::meant::known_stage;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::setting::{Given, Setter, Written, write};
use crate::trouble::{Kind, Trouble};
use crate::whole_units::{Units, WholeUnits};
use crate::workplace::Workplace;

/// What is to be moved up.
#[derive(Debug, Clone)]
#[expect(clippy::struct_excessive_bools, reason = "each is something that is wanted or not")]
pub struct ToPromote {
    /// Which units, and from which stage; one unit or bundle may name its delivery.
    pub from: WholeUnits,
    /// To which stage.
    pub to: Address,
    /// Carry these settings, as patterns of fields without a stage; a secret is named in full.
    pub carry: Vec<String>,
    /// Carry all that changed since the last promotion, and may be carried.
    pub carry_changed: bool,
    /// Show all that differs, not only what changed since the last promotion.
    pub all: bool,
    /// Make the reason of what is carried.
    pub draft_why: bool,
    /// What becomes of what is at the outlets and not ours, where it is delivered, too.
    pub edits: Edits,
    /// Take values that the stage still needs from this file, or write the form for it where there is none.
    pub answers: Option<PathBuf>,
    /// Take the values from the outlets of the stage below.
    pub live: bool,
    /// Deliver the units there, too.
    pub deliver: bool,
    /// Move although other stages come between.
    pub skip_stages: bool,
    /// Whether secrets may stand in plain text where the stage has no key.
    pub plain_secrets: bool,
    /// What somebody says to it.
    pub consent: Consent,
    /// How long to wait for somebody else who is changing the ledger.
    pub wait: Duration,
    /// Do it.
    pub write: bool,
}

/// What moving up came to.
#[derive(Debug)]
pub struct Promoted {
    /// The stage below.
    pub below: String,
    /// The stage above.
    pub above: String,
    /// One for each unit.
    pub promotions: Vec<Promotion>,
    /// The settings that are written above.
    pub settings: Vec<Written>,
    /// The patterns that were to be carried, and of which nothing is.
    pub not_carried: Vec<NotCarried>,
    /// Where the form was written, and for how many values; then nothing else was done.
    pub form: Option<(PathBuf, usize)>,
    /// Whether all that differs is shown, not only what changed since the last promotion.
    pub all: bool,
    /// Whether it is done.
    pub write: bool,
    /// What came of the deliveries that follow.
    pub delivered: Option<Delivered>,
}

impl Promoted {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        let is_needed = |field: &Field| field.fate == Fate::Needed && !field.is_taken;
        let mut fields = self.promotions.iter().flat_map(|promotion| &promotion.fields);
        let is_open = self.form.is_some() || fields.any(is_needed);
        let delivered = self.delivered.as_ref().and_then(Delivered::kind);
        delivered.max(is_open.then_some(Kind::Found))
    }
}

/// Moves what was delivered to one stage up to the next, and delivers it there if that is asked for.
pub fn promote(at: &Arc<Workplace>, asked: &ToPromote) -> Result<Promoted, Trouble> {
    let changing = Changing::start(at, asked.wait)?;
    let mut promoted = moved(&changing, asked)?;
    // The ledger's lock is not needed for bringing, and others may go on.
    drop(changing);
    if asked.deliver && promoted.kind().is_none() {
        let owners = promoted.promotions.iter().filter_map(|it| Address::parse(&it.owner).ok()?.owner);
        let to_deliver = ToDeliver {
            what: WholeUnits {
                units: match asked.from.bundle() {
                    Some(bundle) => vec![Units::Bundle(bundle.clone())],
                    None => owners.map(Units::Named).collect(),
                },
                stage: Name::parse(&promoted.above).ok(),
                delivery: None,
            },
            edits: asked.edits.clone(),
            draft_why: asked.consent.why.is_none(),
            skip_stages: asked.skip_stages,
            consent: asked.consent.clone(),
            write: asked.write,
            ..ToDeliver::all_of(None)
        };
        let opened = Opened::read(at, &Scope::Whole)?;
        // What moved has moved: whatever keeps it from being delivered comes behind that.
        let delivered = deliver(&opened, &to_deliver);
        promoted.delivered =
            Some(delivered.unwrap_or_else(|trouble| Delivered::nothing(opened.ledger.clone(), trouble)));
    }
    Ok(promoted)
}

/// Moves the settings.
fn moved(changing: &Changing, asked: &ToPromote) -> Result<Promoted, Trouble> {
    let (opened, ledger) = (&changing.opened, changing.ledger());
    let (below, above) =
        (stage_of(ledger, asked.from.stage.as_ref(), "FROM")?, stage_of(ledger, to_stage(&asked.to), "TO")?);
    order(ledger, below, above, asked)?;
    let keys = changing.keys(&NO_CHANGE);
    let resolver = opened.resolver();
    let planner = Planner { resolver: &resolver, keys: &keys };
    let Some(mut book) = daybook::reading(opened)? else { return Err(nothing_delivered(ledger, below)) };
    let carry = Carry::read(&asked.carry, asked.carry_changed)?;
    let moving = Moving::read(opened, &mut *book, &asked.from, below)?;
    let (mut promotions, mut not_delivered) = (Vec::new(), Vec::new());
    for subject in subjects(opened, asked, (below, above))? {
        let owner = ledger.owner(subject).to_string();
        let below_name = ledger.stage(below).name.as_str();
        let Some(record) = moving.record(&mut *book, &owner, below_name)? else {
            not_delivered.push(owner);
            continue;
        };
        let mut content = planner.content(&record)?;
        let mut not_read = Vec::new();
        if asked.live {
            let around = Around::of(opened);
            not_read =
                live::overlay(&planner, (opened, &around), &mut *book, (subject, below), &mut content)?;
        }
        let news = news(&planner, &mut *book, (&owner, below, above), &content)?;
        let of = (record, &content);
        let mut promotion = of_unit(&planner, &carry, (subject, below, above), of, news.as_ref());
        promotion.not_read = not_read;
        promotions.push(promotion);
    }
    if promotions.is_empty() {
        return Err(nothing_delivered(ledger, below));
    }
    if !asked.from.is_all() && !not_delivered.is_empty() {
        let (names, stage) = (not_delivered.join(", "), &ledger.stage(below).name);
        opened
            .at
            .telling
            .notice(&format!("Not moved, since nothing of it is delivered to {stage}: {names}."));
    }
    let answers = {
        let fields = promotions.iter().flat_map(|promotion| &promotion.fields);
        let questions: Vec<Question> = fields.filter_map(Field::question).collect();
        Answers::read(opened, asked.answers.as_deref(), asked.write, &questions)?
    };
    let name = |stage: StageId| ledger.stage(stage).name.to_string();
    let not_carried = carry.idle(&promotions);
    let mut promoted = Promoted {
        below: name(below),
        above: name(above),
        promotions,
        settings: Vec::new(),
        not_carried,
        form: None,
        all: asked.all,
        write: asked.write,
        delivered: None,
    };
    if let Answers::Form(path, count) = answers {
        promoted.form = Some((path, count));
        return Ok(promoted);
    }
    let layer = LayerId::Stage(above);
    let (edits, settings) = edits(opened, asked, &keys, layer, &mut promoted.promotions, &answers)?;
    let change = changing.plan(&edits)?;
    changing.refuse_bad_rows(&change)?;
    if asked.write && !edits.is_empty() {
        let mut consent = asked.consent.clone();
        if asked.draft_why && consent.why.is_none() {
            consent.why = Some(drafted(&promoted.below, &settings));
        }
        changing.guard(&[layer], &change, &consent)?;
        changing.write(&change)?;
    }
    promoted.settings = settings;
    Ok(promoted)
}

/// The fields that changed below since the stage above was last delivered to; none where it never was.
fn news(
    planner: &Planner<'_, '_>,
    book: &mut dyn Daybook,
    (owner, below, above): (&str, StageId, StageId),
    content: &Content,
) -> Result<Option<BTreeSet<String>>, Trouble> {
    let ledger = planner.resolver.ledger();
    let (below_name, above_name) = (&ledger.stage(below).name, &ledger.stage(above).name);
    let Some(last) = book.entries(&Wanted::last_of(owner, above_name.as_str()), false)?.pop() else {
        return Ok(None);
    };
    let wanted = Wanted { beside: Some(false), ..Wanted::of(owner, below_name.as_str()) };
    let mut before = book.entries(&wanted, true)?;
    before.retain(|entry| entry.meta.place < last.meta.place && entry.meta.kind.is_brought());
    let Some(before) = before.pop() else { return Ok(None) };
    let Some(digests) = before.digests()? else { return Ok(None) };
    let bound = bound_to_digests(&before.meta.unit, &before.meta.stage);
    let open = |text: &str| planner.keys.text(ledger, LayerId::Stage(below), text, &bound);
    let differing = digests.differing(&content.values, open);
    // What nobody can tell may have changed.
    Ok(Some(differing.fields.into_iter().chain(differing.not_known).collect()))
}

/// A reason made of what is carried.
fn drafted(below: &str, settings: &[Written]) -> String {
    let names = settings.iter().filter_map(|written| written.address.split('@').next());
    format!("From {below}: {}.", names.collect::<Vec<_>>().join(", "))
}

fn nothing_delivered(ledger: &Ledger, below: StageId) -> Trouble {
    let stage = &ledger.stage(below).name;
    Trouble::usage(format!("nothing of this was delivered to `{stage}` that could move up"))
        .help(format!("what moves up is what was delivered: cledger deliver UNIT@{stage}"))
}

/// The stage that is moved to, where it is named alone.
fn to_stage(to: &Address) -> Option<&Name> {
    to.stage.as_ref().filter(|_| to.owner.is_none() && to.entry.is_none())
}

fn stage_of(ledger: &Ledger, named: Option<&Name>, what: &str) -> Result<StageId, Trouble> {
    let Some(stage) = named else {
        return Err(Trouble::usage(format!("{what} names no stage")).help("cledger promote @test @staging"));
    };
    known_stage(ledger, stage.as_str())
}

/// Whether a move is one step up, as `after` says.
fn order(ledger: &Ledger, below: StageId, above: StageId, asked: &ToPromote) -> Result<(), Trouble> {
    if ledger.stage(above).after.contains(&below) {
        return Ok(());
    }
    let (from, to) = (&ledger.stage(below).name, &ledger.stage(above).name);
    if asked.skip_stages {
        if asked.consent.why.is_none() {
            return Err(Trouble::refused("leaving stages out needs a reason").help("add --why TEXT"));
        }
        return Ok(());
    }
    let after: Vec<&str> =
        ledger.stage(above).after.iter().map(|&id| ledger.stage(id).name.as_str()).collect();
    let message = match &after[..] {
        [] => format!("`{to}` comes after no stage, so nothing moves up there"),
        after => format!("`{to}` comes after {}, not after `{from}`", after.join(", ")),
    };
    Err(Trouble::refused(message).help("move it step by step, or add --skip-stages --why TEXT"))
}

/// The units that are meant, as far as they belong to both stages.
fn subjects(
    opened: &Opened,
    asked: &ToPromote,
    (below, above): (StageId, StageId),
) -> Result<Vec<Subject>, Trouble> {
    let ledger = &opened.ledger;
    let all = opened.whole_units(&asked.from, below)?;
    if let Some(owner) = asked.from.only_one() {
        opened.subject_in(owner, above)?;
    }
    let in_both = |subject: &Subject| match subject {
        Subject::Unit(unit, instance) => ledger.unit(*unit).belongs_to(above, *instance),
        Subject::Shared => false,
    };
    let (both, below_only): (Vec<Subject>, Vec<Subject>) = all.into_iter().partition(in_both);
    if !asked.from.is_all() && !below_only.is_empty() {
        let names: Vec<String> =
            below_only.iter().map(|&subject| ledger.owner(subject).to_string()).collect();
        let stage = &ledger.stage(above).name;
        opened
            .at
            .telling
            .notice(&format!("Not moved, since it does not belong to {stage}: {}.", names.join(", ")));
    }
    Ok(both)
}

/// Which deliveries move: those that are named, else the last of each unit.
enum Moving {
    Last,
    Number(u64),
    /// Those that the record of a bundle lists.
    Listed(BTreeMap<String, u64>),
}

impl Moving {
    fn read(
        opened: &Opened,
        book: &mut dyn Daybook,
        from: &WholeUnits,
        below: StageId,
    ) -> Result<Self, Trouble> {
        let Some(Delivery::Number(number)) = from.delivery else { return Ok(Self::Last) };
        match (from.bundle(), from.only_one()) {
            (Some(bundle), _) => {
                let stage = opened.ledger.stage(below).name.as_str();
                let members = record_of(book, bundle, stage, number.into())?.members.into_iter();
                Ok(Self::Listed(members.filter_map(|member| Some((member.unit, member.number?))).collect()))
            }
            (None, Some(_)) => Ok(Self::Number(number.into())),
            (None, None) => Err(Trouble::usage("a number is that of one unit or bundle")
                .help("write UNIT@STAGE:NUMBER or bundle:NAME@STAGE:NUMBER")),
        }
    }

    /// The delivery of a unit that moves, if there is one.
    fn record(&self, book: &mut dyn Daybook, owner: &str, stage: &str) -> Result<Option<Record>, Trouble> {
        let wanted = match self {
            Self::Last => Wanted::last_of(owner, stage),
            Self::Number(number) => Wanted::numbered(owner, stage, *number),
            Self::Listed(numbers) => match numbers.get(owner) {
                Some(number) => Wanted::numbered(owner, stage, *number),
                None => return Ok(None),
            },
        };
        Ok(book.records(&wanted)?.pop().filter(|record| record.meta.kind.is_brought()))
    }
}

/// The edits, and the settings that they write: each field once, however many units share it.
fn edits(
    opened: &Opened,
    asked: &ToPromote,
    keys: &Keys<'_>,
    layer: LayerId,
    promotions: &mut [Promotion],
    answers: &Answers,
) -> Result<(Vec<Edit>, Vec<Written>), Trouble> {
    let ledger = &opened.ledger;
    let setter = Setter { ledger, keys, plain_secrets: asked.plain_secrets };
    let note = Note { why: asked.consent.why.clone(), ..Note::default() };
    let mut made: BTreeMap<String, (Option<Edit>, Written)> = BTreeMap::new();
    for field in promotions.iter_mut().flat_map(|promotion| &mut promotion.fields) {
        let address = field.place.address.to_string();
        if made.contains_key(&address) {
            field.is_taken |= field.fate == Fate::Needed;
            continue;
        }
        let before = ledger.setting_at(layer, field.place.subject, field.place.slot);
        let said = if field.is_taken {
            let Some(carried) = field.below.as_ref().and_then(Kept::value) else { continue };
            setter.said(&field.place, Given::System(&carried), before)?
        } else {
            let judge = |answer: &Zeroizing<String>| setter.said(&field.place, Given::Hand(answer), before);
            let said =
                field.question().map(|question| answers.of(&opened.at, &question, judge)).transpose()?;
            let Some(said) = said.flatten() else { continue };
            field.is_taken = true;
            said
        };
        made.insert(address, write(ledger, &field.place, layer, &said, &note));
    }
    let (edits, written): (Vec<_>, Vec<_>) = made.into_values().unzip();
    Ok((edits.into_iter().flatten().collect(), written))
}
