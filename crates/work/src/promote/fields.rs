//! What moving one unit up means for each of its fields.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::address::{Address, Owner, Pattern};
use cledger_core::delivery::{FieldChange, field_changes};
use cledger_core::kept::Kept;
use cledger_core::model::{LayerId, Ledger, SettingValue, Slot, StageId, Subject};
use cledger_core::promotion::{self, Candidate, Fate, Origin};
use cledger_core::resolve::{FieldId, Outcome, Session, Winner};
use cledger_core::search::declared;
use cledger_store::Target;
use cledger_store::daybook::{Content, Record};

use crate::answers::Question;
use crate::deliver::recorded::Planner;
use crate::meant::{Place, unit_of};
use crate::trouble::Trouble;

/// What moving one unit up means.
#[derive(Debug)]
pub struct Promotion {
    /// The unit or instance.
    pub owner: String,
    /// The delivery that moves.
    pub from: Record,
    /// Fields in which the ledger says something else for the stage below by now.
    pub moved_on: Vec<String>,
    /// What the outlets have and nobody could read, so that it counts as delivered.
    pub not_read: Vec<NotRead>,
    /// The fields that differ above, what changed since the last promotion first.
    pub fields: Vec<Field>,
    /// The fields that do not, or follow from others.
    quiet: Vec<(Addresses, Fate)>,
}

/// What an outlet has and cannot be read.
#[derive(Debug)]
pub struct NotRead {
    /// The file or thing, or the name in it.
    pub what: String,
    /// Why not.
    pub why: String,
}

/// A field on its way.
#[derive(Debug)]
pub struct Field {
    /// Where it is set above.
    pub place: Place,
    /// What becomes of it.
    pub fate: Fate,
    /// Whether a secret is among its values, or would be.
    pub secret: bool,
    /// The type, for whoever is asked.
    pub asks: String,
    /// The value below, as JSON.
    pub below: Option<Kept>,
    /// The value above, as JSON.
    pub above: Option<Kept>,
    /// Whether it is carried, or answered.
    pub is_taken: bool,
    /// Whether it changed below since the stage above was last delivered to.
    pub is_news: bool,
    /// What it is for, in its developers' words.
    pub about: Option<String>,
    pub(crate) addresses: Addresses,
}

impl Field {
    /// What is asked of whoever can give its value, where one is needed.
    pub(crate) fn question(&self) -> Option<Question> {
        let below = self.below.as_ref().and_then(Kept::open);
        (self.fate == Fate::Needed).then(|| Question {
            address: self.place.address.to_string(),
            asks: self.asks.clone(),
            about: self.about.clone(),
            elsewhere: below.map(|text| ("in the stage below".to_owned(), text.to_string())),
            secret: self.secret,
        })
    }
}

/// The fields that are to be carried.
pub(crate) struct Carry {
    patterns: Vec<Pattern>,
    /// Those that are named one by one.
    named: Vec<Address>,
    /// Whether all is carried that changed since the last promotion, and may be.
    changed: bool,
}

/// A pattern of which nothing is carried.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotCarried {
    /// The pattern.
    pub pattern: String,
    /// Why.
    pub why: String,
}

impl Carry {
    pub(crate) fn read(texts: &[String], changed: bool) -> Result<Self, Trouble> {
        let patterns = texts.iter().map(|text| Pattern::parse(text)).collect::<Result<_, _>>()?;
        let named = texts.iter().filter_map(|text| Address::parse(text).ok()).collect();
        Ok(Self { patterns, named, changed })
    }

    fn covers(&self, of: &Addresses) -> bool {
        self.patterns.iter().any(|pattern| of.are_covered_by(pattern))
    }

    /// The patterns that cover none of the fields that are carried, and why.
    pub(crate) fn idle(&self, promotions: &[Promotion]) -> Vec<NotCarried> {
        let fields = || promotions.iter().flat_map(|promotion| &promotion.fields);
        let carries =
            |pattern: &Pattern| fields().any(|it| it.is_taken && it.addresses.are_covered_by(pattern));
        let why = |pattern: &Pattern| {
            let quiet = promotions.iter().flat_map(|promotion| &promotion.quiet);
            let fates = fields().map(|field| (&field.addresses, field.fate));
            let covered: Vec<(&Addresses, Fate)> = fates
                .chain(quiet.map(|(addresses, fate)| (addresses, *fate)))
                .filter(|(addresses, _)| addresses.are_covered_by(pattern))
                .collect();
            let Some((addresses, fate)) = covered.first() else {
                return "no field of these units is called so".to_owned();
            };
            let address = &addresses.own;
            let more = match covered.len() - 1 {
                0 => String::new(),
                more => format!(", and {more} more are not carried either"),
            };
            let why = match fate {
                Fate::Same => "is the same in both".to_owned(),
                Fate::Needed => "has no value below that may be carried".to_owned(),
                Fate::Stays(stays) => format!("stays: {}", stays.words()),
                Fate::Follows => "follows from something else".to_owned(),
                Fate::MayBeCarried => "may be carried".to_owned(),
            };
            format!("{address} {why}{more}")
        };
        let idle = self.patterns.iter().filter(|pattern| !carries(pattern));
        idle.map(|pattern| NotCarried { pattern: pattern.to_string(), why: why(pattern) }).collect()
    }

    /// Whether a field is named in full; a whole unit or entry is no name of a field.
    fn names(&self, of: &Addresses) -> bool {
        let bare = |address: &Address| Address { stage: None, ..address.clone() };
        self.named.iter().any(|it| bare(it) == bare(&of.set) || bare(it) == bare(&of.own))
    }
}

/// The addresses of a field in the stage above.
#[derive(Debug)]
pub(crate) struct Addresses {
    /// Where it would be set: for a shared field the shared one.
    set: Address,
    /// As the unit sees it.
    own: Address,
}

impl Addresses {
    fn are_covered_by(&self, pattern: &Pattern) -> bool {
        pattern.covers(&self.set) || pattern.covers(&self.own)
    }
}

/// What moving one unit up means for each of its fields.
pub(crate) fn of_unit(
    planner: &Planner<'_, '_>,
    carry: &Carry,
    (subject, below, above): (Subject, StageId, StageId),
    (from, content): (Record, &Content),
    news: Option<&BTreeSet<String>>,
) -> Promotion {
    let ledger = planner.resolver.ledger();
    let mut session = planner.resolver.session(unit_of(subject));
    let (mut fields, mut quiet, mut now_below) = (Vec::new(), Vec::new(), BTreeMap::new());
    for slot in ledger.slots(subject).all() {
        let name = ledger.field_name(subject, slot);
        if let Some(now) = kept(&session.outcome(FieldId { subject, stage: below, slot })) {
            now_below.insert(name.clone(), now);
        }
        let moving = Moving { subject, slot, below, above };
        let is_news = news.is_some_and(|news| news.contains(&name));
        match moving.field(&mut session, carry, (content.values.get(&name), is_news)) {
            Ok(field) => fields.push(field),
            Err(it) => quiet.push(*it),
        }
    }
    fields.sort_by_key(|field| !field.is_news);
    let moved_on = field_changes(&content.values, &now_below).into_iter();
    let moved_on =
        moved_on.filter(|(_, change)| !matches!(change, FieldChange::NotKnown)).map(|(name, _)| name);
    Promotion {
        owner: ledger.owner(subject).to_string(),
        moved_on: moved_on.collect(),
        not_read: Vec::new(),
        from,
        fields,
        quiet,
    }
}

/// One field between two stages.
#[derive(Clone, Copy)]
struct Moving {
    subject: Subject,
    slot: Slot,
    below: StageId,
    above: StageId,
}

impl Moving {
    /// What becomes of it, where something has to be said of that; what it is called and what becomes of it where
    /// not.
    fn field(
        self,
        session: &mut Session<'_, '_>,
        carry: &Carry,
        (before, is_news): (Option<&Kept>, bool),
    ) -> Result<Field, Box<(Addresses, Fate)>> {
        let Moving { subject, slot, below, above } = self;
        let ledger = session.ledger();
        let declaration = ledger.field(subject, slot).1;
        let (winner, is_shared) = match session.winners(subject, below)[slot.0 as usize] {
            Winner::Set(setting, _, is_shared) => (Some(&setting.value), is_shared),
            Winner::Assumed(_) | Winner::Nothing | Winner::Default(..) => (None, false),
        };
        let origin = origin_of(winner);
        let above_winner = session.winners(subject, above)[slot.0 as usize];
        let origin_above = match above_winner {
            Winner::Set(setting, ..) => origin_of(Some(&setting.value)),
            Winner::Assumed(_) => Origin::Set,
            Winner::Nothing | Winner::Default(..) => Origin::Default,
        };
        // A default that waits for a field which is asked for has its value with that.
        let waits =
            matches!(above_winner, Winner::Default(default, ..) if default.value.expose().has_references());
        let there = session.outcome(FieldId { subject, stage: above, slot });
        let now = kept(&there);
        let addresses = self.addresses(ledger, is_shared);
        let candidate = Candidate {
            address: &addresses.own,
            declaration,
            below: before,
            above: now.as_ref(),
            is_missing: matches!(there, Outcome::Missing(..)) && !declaration.derived && !waits,
            origin,
            origin_above,
        };
        let fate = self.fate(ledger, &candidate, carry, &addresses);
        if matches!(fate, Fate::Same | Fate::Follows) {
            return Err(Box::new((addresses, fate)));
        }
        let secret = candidate.is_secret();
        let (target, target_slot) = if is_shared { declared(ledger, subject, slot) } else { (subject, slot) };
        let carried = carry.covers(&addresses) || carry.changed && is_news;
        Ok(Field {
            fate,
            secret,
            asks: declaration.this_type.typed().to_owned(),
            is_taken: fate == Fate::MayBeCarried && carried,
            is_news,
            about: declaration.about.as_deref().map(str::to_owned),
            place: Place {
                address: addresses.set.clone(),
                subject: target,
                slot: target_slot,
                target: Target::Layer(LayerId::Stage(above)),
            },
            below: before.cloned(),
            above: now,
            addresses,
        })
    }

    fn addresses(self, ledger: &Ledger, is_shared: bool) -> Addresses {
        let (entry, declaration) = ledger.field(self.subject, self.slot);
        let stage = &ledger.stage(self.above).name;
        let of = |owner| Address::of_field(owner, &entry.name, declaration.name.as_ref(), Some(stage));
        let owner = ledger.owner(self.subject);
        Addresses { set: of(if is_shared { Owner::Shared } else { owner.clone() }), own: of(owner) }
    }

    /// What becomes of it; what is needed may be carried like anything else.
    fn fate(self, ledger: &Ledger, candidate: &Candidate<'_>, carry: &Carry, addresses: &Addresses) -> Fate {
        let named = carry.names(addresses);
        let fate = promotion::fate(ledger, self.above, candidate, named);
        if fate != Fate::Needed || !carry.covers(addresses) {
            return fate;
        }
        let given = Candidate { is_missing: false, ..*candidate };
        match promotion::fate(ledger, self.above, &given, named) {
            Fate::MayBeCarried => Fate::MayBeCarried,
            _ => fate,
        }
    }
}

/// Where the value of a setting comes from.
fn origin_of(setting: Option<&SettingValue>) -> Origin {
    match setting {
        None => Origin::Default,
        Some(SettingValue::Value(held)) if held.expose().has_references() => Origin::Made,
        Some(_) => Origin::Set,
    }
}

/// An effective value, to be compared.
fn kept(outcome: &Outcome<'_>) -> Option<Kept> {
    outcome.value().map(Kept::of_effective)
}
