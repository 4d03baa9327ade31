//! What was delivered where, when, by whom and why.

use cledger_core::address::{Address, Delivery, Owner, Pattern};
use cledger_core::cipher::KeyScope;
use cledger_core::model::{Bundle, LayerId, Ledger};
use cledger_core::name::Name;
use cledger_store::Unsealed;
use cledger_store::daybook::{BOTH, Content, Daybook, Entry, Meta, Record, Wanted, bound_to, verify};

use crate::anchor;
use crate::covering::meant;
use crate::daybook;
use crate::opened::Opened;
use crate::trouble::{Kind as TroubleKind, Trouble};

/// What the daybook has.
#[derive(Debug)]
pub struct History {
    /// The records, in the order of the chain.
    pub records: Vec<Entry>,
    /// How many there are before these.
    pub more: usize,
    /// What was left open.
    pub opened: Vec<Meta>,
    /// Whether it is that of bundles alone.
    pub of_bundles: bool,
}

/// Whose history is asked for.
enum Whose {
    Covered(Pattern),
    /// A bundle, and the stages.
    Bundle(String, Option<Pattern>),
}

impl Whose {
    fn parse(text: &str) -> Result<Self, Trouble> {
        let Some(named) = text.strip_prefix(Bundle::WORD) else {
            return Ok(Self::Covered(Pattern::parse(text)?));
        };
        let (name, stage) = named.split_at(named.find('@').unwrap_or(named.len()));
        let stage = if stage.is_empty() { None } else { Some(Pattern::parse(stage)?) };
        Ok(Self::Bundle(format!("{}{name}", Bundle::WORD), stage))
    }

    /// Whether a record is of it, by the names of now or those that it was made under.
    fn has(&self, ledger: &Ledger, meta: &Meta) -> bool {
        let stage = ledger.stage_name_now(&meta.stage);
        let in_stage = |pattern: &Pattern| pattern.covers_stage(&meta.stage) || pattern.covers_stage(stage);
        match self {
            Self::Bundle(unit, stages) => meta.unit == *unit && stages.as_ref().is_none_or(in_stage),
            Self::Covered(pattern) => {
                let owner = Address::parse(&meta.unit).ok().and_then(|address| address.owner);
                let now = owner.as_ref().and_then(|owner| ledger.now_called(owner));
                let names = |owner: &Owner| pattern.covers_owner(owner.names().0, owner.names().1);
                in_stage(pattern) && (!pattern.has_owner() || owner.iter().chain(&now).any(names))
            }
        }
    }
}

/// Whether the chain of records holds.
#[derive(Debug)]
pub struct Verified {
    /// How many records there are.
    pub records: usize,
    /// What is wrong with them.
    pub broken: Vec<String>,
    /// How many of them have secrets whose key is not at hand, so that they were not looked into.
    pub not_readable: usize,
}

impl Verified {
    /// What kind of trouble there is, if any.
    pub fn kind(&self) -> Option<TroubleKind> {
        (!self.broken.is_empty()).then_some(TroubleKind::Found)
    }
}

/// A delivery as it was recorded.
#[derive(Debug)]
pub struct Recorded {
    /// The record.
    pub record: Record,
    /// What was delivered.
    pub content: Content,
}

/// The last so many records, as far as patterns cover them, or of bundles; all without one.
pub fn history(opened: &Opened, texts: &[String], last: usize) -> Result<History, Trouble> {
    let whose: Vec<Whose> = texts.iter().map(|text| Whose::parse(text)).collect::<Result<_, _>>()?;
    let mut book = daybook::required(opened)?;
    let covers = |meta: &Meta| whose.is_empty() || whose.iter().any(|whose| whose.has(&opened.ledger, meta));
    let all = book.entries(&Wanted::default(), false)?;
    let mut records: Vec<Entry> = all.into_iter().filter(|entry| covers(&entry.meta)).collect();
    let more = records.len().saturating_sub(last);
    records.drain(..more);
    let open: Vec<Meta> = book.opened(None)?.into_iter().map(|open| open.meta).filter(covers).collect();
    // What the ledger does not have any more has a history all the same.
    if records.is_empty() && more == 0 && open.is_empty() {
        meant(&opened.ledger, texts)?;
    }
    let of_bundles = !whose.is_empty() && whose.iter().all(|whose| matches!(whose, Whose::Bundle(..)));
    Ok(History { records, more, opened: open, of_bundles })
}

/// Proves the chain, that it holds what was seen of it, and the secrets as far as they are readable here.
pub fn verified(opened: &Opened) -> Result<Verified, Trouble> {
    let mut book = daybook::required(opened)?;
    let all = book.as_they_are(&Wanted::default())?;
    let mut broken: Vec<String> = verify(&all).err().map(|broken| broken.to_string()).into_iter().collect();
    broken.extend(anchor::torn(opened, &mut *book)?);
    let mut not_readable = 0;
    for record in &all {
        match secrets(opened, record) {
            Secrets::Whole => {}
            Secrets::NotAtHand => not_readable += 1,
            Secrets::Damaged(reason) => {
                let Meta { unit, stage, number, .. } = &record.meta;
                broken.push(format!("{unit}@{stage}:{number}: its secrets are damaged: {reason}"));
            }
        }
    }
    if broken.is_empty()
        && let Err(error) = book.opened(None)
    {
        broken.push(error.to_string());
    }
    Ok(Verified { records: all.len(), broken, not_readable })
}

/// How the secrets of a record are.
enum Secrets {
    Whole,
    NotAtHand,
    Damaged(String),
}

fn secrets(opened: &Opened, record: &Record) -> Secrets {
    let Some(cipher_text) = record.packed.cipher_text() else { return Secrets::Whole };
    let Ok(stage) = Name::parse(&record.meta.stage) else {
        return Secrets::Damaged("its stage has no name".to_owned());
    };
    let ledger = &opened.ledger;
    let now = Name::parse(ledger.stage_name_now(stage.as_str())).unwrap_or_else(|_| stage.clone());
    let (now, then) = (KeyScope::Stage(now), KeyScope::Stage(stage));
    let bound = bound_to(&record.meta.unit, &record.meta.stage);
    // Under a new key a record is bound to the stage as it is called now.
    let layer = ledger.stage_called(&record.meta.stage).map(LayerId::Stage);
    let opens = |text: &str| layer.and_then(|layer| opened.keys().text(ledger, layer, text, &bound));
    let mut worst = Secrets::NotAtHand;
    // While a key is being changed there are two cipher texts, and one will do.
    for text in cipher_text.split(BOTH) {
        let looked = match opens(text) {
            Some(text) => Unsealed::Text(text),
            None => opened.keys().look_into((&now, &then), text, &bound),
        };
        match looked {
            Unsealed::Text(text) => {
                let unpacked = record.packed.unpack(record.meta.secrets.as_deref(), |_| Some(text.clone()));
                return unpacked.map_or_else(|error| Secrets::Damaged(error.to_string()), |_| Secrets::Whole);
            }
            Unsealed::NotAtHand => {}
            Unsealed::Damaged(reason) => worst = Secrets::Damaged(reason),
        }
    }
    worst
}

/// Copies all records to an empty daybook, and looks whether they have arrived; gives how many there are.
pub fn copy(opened: &Opened, place: &str) -> Result<usize, Trouble> {
    let mut book = daybook::required(opened)?;
    let all = book.as_they_are(&Wanted::default())?;
    if let Err(broken) = verify(&all) {
        return Err(Trouble::usage(format!("the daybook is not whole, and is not copied: {broken}"))
            .help("take it back from a backup"));
    }
    let mut other: Box<dyn Daybook> = daybook::at(place)?;
    other.take_over(&all, &book.kept_keys()?)?;
    let arrived = other.as_they_are(&Wanted::default())?;
    if let Err(broken) = verify(&arrived) {
        return Err(Trouble::outside(format!("the copy is not whole: {broken}")));
    }
    if arrived.len() != all.len() {
        return Err(Trouble::outside(format!("{} of {} records have arrived", arrived.len(), all.len())));
    }
    Ok(arrived.len())
}

/// The record that an address names, with what was delivered.
pub fn recorded(opened: &Opened, address: &Address) -> Result<Recorded, Trouble> {
    let record = record(&mut *daybook::required(opened)?, address)?;
    let content = daybook::content(&record, &opened.ledger, opened.keys())?;
    Ok(Recorded { record, content })
}

/// The record that an address names.
pub(crate) fn record(book: &mut dyn Daybook, address: &Address) -> Result<Record, Trouble> {
    let (Some(owner), Some(stage), None) = (&address.owner, &address.stage, &address.entry) else {
        let message = format!("`{address}` names no delivery of a unit");
        return Err(Trouble::usage(message).help("write UNIT@STAGE:NUMBER, or UNIT@STAGE:last"));
    };
    let (owner, stage) = (owner.to_string(), stage.as_str());
    let wanted = match address.delivery {
        Some(Delivery::Number(number)) => Wanted::numbered(&owner, stage, number.into()),
        _ => Wanted::last_of(&owner, stage),
    };
    book.records(&wanted)?.pop().ok_or_else(|| {
        Trouble::usage(format!("there is no delivery `{address}`"))
            .help(format!("`cledger history {owner}@{stage}` lists those that there are"))
    })
}

/// The delivery of a unit to a stage with this number.
pub(crate) fn numbered(
    book: &mut dyn Daybook,
    owner: &str,
    stage: &str,
    number: u64,
) -> Result<Record, Trouble> {
    let wanted = Wanted::numbered(owner, stage, number);
    let record = book.records(&wanted)?.pop().filter(|record| record.meta.kind.is_brought());
    record.ok_or_else(|| {
        Trouble::usage(format!("there is no delivery `{owner}@{stage}:{number}`"))
            .help(format!("`cledger history {owner}@{stage}` lists them"))
    })
}
