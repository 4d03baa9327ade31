//! What was delivered, looked at in place of outlets.

use std::collections::BTreeMap;

use cledger_core::address::Delivery;
use cledger_core::delivery::Arrived;
use cledger_core::kept::Kept;
use cledger_core::model::{Ledger, StageId, Subject};
use cledger_core::name::Name;
use cledger_outlets::held::{FileThere, FilesThere, Held};
use cledger_store::daybook::{AnswerState, Content, Daybook, Record, Wanted};
use jiff::Timestamp;
use zeroize::Zeroizing;

use crate::daybook;
use crate::deliver::bundle::members_of;
use crate::deliver::history::numbered;
use crate::deliver::recorded::{arrived, stood_at};
use crate::meant::known_stage;
use crate::opened::Opened;
use crate::reality::captured::Found;
use crate::reality::making::Made;
use crate::reality::places::Place;
use crate::trouble::Trouble;
use crate::whole_units::{Units, WholeUnits};

/// What is said of a unit of which nothing was there at a time.
pub(crate) const NOTHING_THEN: &str = "nothing of this unit was delivered then";

/// What is said of a unit of which no delivery is looked at.
pub(crate) const NOT_PART: &str = "the delivery has nothing of this unit";

/// How many deliveries are named one by one.
const NAMED: usize = 6;

/// Which deliveries are looked at.
#[derive(Debug, Clone)]
pub enum Deliveries {
    /// One of a unit, or of a bundle, with its number.
    Of(WholeUnits),
    /// What every unit had at a time.
    At(Timestamp),
}

/// One delivery of a unit: its record, and what it holds.
struct One {
    record: Record,
    content: Content,
}

/// Deliveries that are looked at.
pub(crate) struct Delivered {
    /// By unit and stage.
    by_unit: BTreeMap<(String, String), One>,
    /// What is said of other units.
    of_others: &'static str,
}

/// The deliveries of a unit or bundle, found: their stage, and the number of each unit.
pub(crate) struct Numbered {
    pub(crate) stage: Name,
    pub(crate) numbers: BTreeMap<String, u64>,
}

impl Numbered {
    /// Finds the deliveries that are named; `None` where a time is.
    pub(crate) fn find(opened: &Opened, meant: &Deliveries) -> Result<Option<Self>, Trouble> {
        let Deliveries::Of(meant) = meant else { return Ok(None) };
        let (Some(stage), [units], Some(delivery)) = (&meant.stage, &meant.units[..], meant.delivery) else {
            let message = "no delivery of a unit or bundle is named";
            return Err(Trouble::usage(message).help(
                "write UNIT@STAGE:NUMBER, bundle:NAME@STAGE:NUMBER, or a time as YYYY-MM-DDTHH:MM; `cledger \
                 history` lists them",
            ));
        };
        known_stage(&opened.ledger, stage.as_str())?;
        let mut book = daybook::required(opened)?;
        let numbers = match (units, delivery) {
            (Units::Named(owner), Delivery::Number(number)) => {
                BTreeMap::from([(owner.to_string(), number.into())])
            }
            (Units::Named(owner), Delivery::Last) => {
                let last = book.entries(&Wanted::last_of(&owner.to_string(), stage.as_str()), false)?.pop();
                let number = match last.map(|last| last.meta) {
                    Some(meta) if meta.kind.is_brought() => meta.number,
                    Some(meta) => {
                        let message =
                            format!("the last record of `{owner}@{stage}`, {}, is no delivery", meta.number);
                        return Err(Trouble::usage(message)
                            .help(format!("name a number: `cledger history {owner}@{stage}` lists them")));
                    }
                    None => {
                        let message = format!("nothing of `{owner}` was delivered to `{stage}`");
                        return Err(
                            Trouble::usage(message).help("`cledger history` tells what was, and where")
                        );
                    }
                };
                BTreeMap::from([(owner.to_string(), number)])
            }
            (Units::Bundle(bundle), delivery) => members_of(opened, &mut *book, (bundle, stage), delivery)?,
            (Units::Covered(pattern), _) => {
                let message = format!("`{pattern}` is a pattern, and a number is that of one unit or bundle");
                return Err(Trouble::usage(message).help("name the unit, or a time as YYYY-MM-DDTHH:MM"));
            }
        };
        Ok(Some(Self { stage: stage.clone(), numbers }))
    }
}

impl Delivered {
    /// Reads what was delivered of the units of these places, and tells which deliveries that are.
    pub(crate) fn read(
        opened: &Opened,
        places: &[Place<'_>],
        (meant, numbered): (&Deliveries, Option<&Numbered>),
    ) -> Result<Self, Trouble> {
        let (ledger, mut book) = (&opened.ledger, daybook::required(opened)?);
        let of_others = if matches!(meant, Deliveries::At(_)) { NOTHING_THEN } else { NOT_PART };
        let mut delivered = Self { by_unit: BTreeMap::new(), of_others };
        for place in places {
            for &subject in &place.subjects {
                let key = key(ledger, subject, place.stage);
                if delivered.by_unit.contains_key(&key) {
                    continue;
                }
                let number = match (meant, numbered) {
                    (Deliveries::At(time), _) => stood_at(&mut *book, &key.0, &key.1, *time)?,
                    (_, Some(numbered)) if numbered.stage.as_str() == key.1 => {
                        numbered.numbers.get(&key.0).copied()
                    }
                    _ => None,
                };
                if let Some(number) = number {
                    delivered.add(opened, &mut *book, key, number)?;
                }
            }
        }
        delivered.tell(opened);
        Ok(delivered)
    }

    fn add(
        &mut self,
        opened: &Opened,
        book: &mut dyn Daybook,
        key: (String, String),
        number: u64,
    ) -> Result<(), Trouble> {
        let record = numbered(book, &key.0, &key.1, number)?;
        let content = daybook::content(&record, &opened.ledger, opened.keys())?;
        self.by_unit.insert(key, One { record, content });
        Ok(())
    }

    fn tell(&self, opened: &Opened) {
        let names = self.by_unit.iter().map(|((owner, stage), one)| {
            let in_part = if arrived(&one.record.meta) == Arrived::Whole { "" } else { " (not whole)" };
            format!("{owner}@{stage}:{}{in_part}", one.record.meta.number)
        });
        let mut names: Vec<String> = names.collect();
        let more = names.len().saturating_sub(NAMED);
        names.truncate(NAMED);
        if more > 0 {
            names.push(format!("{more} more"));
        }
        let names = if names.is_empty() { "nothing".to_owned() } else { names.join(", ") };
        opened.at.telling.notice(&format!("Looked at in place of outlets, as delivered: {names}."));
    }

    /// What was delivered to a place, where the ledger makes these things of its units.
    pub(crate) fn of(&self, ledger: &Ledger, place: &Place<'_>, made: &[Made<'_>]) -> Found {
        let outlet = place.outlet_name().map(|(name, _)| name).unwrap_or_default();
        let mut found = Found::default();
        found.back.trouble = Some(self.of_others.to_owned());
        for (&subject, made) in place.subjects.iter().zip(made) {
            let key = key(ledger, subject, place.stage);
            let Some(one) = self.by_unit.get(&key) else { continue };
            let held = one.held(&outlet, made).unwrap_or_else(Held::NotKnown);
            found.back.units.insert(key.0, held);
        }
        found
    }
}

impl One {
    /// What it brought to an outlet, or why nobody can tell.
    fn held(&self, outlet: &str, made: &Made<'_>) -> Result<Held, String> {
        let number = self.record.meta.number;
        let came = self.record.meta.outlets.iter().find(|answer| answer.outlet == outlet);
        match came.map(|answer| answer.state) {
            Some(AnswerState::AsItShouldBe | AnswerState::Brought | AnswerState::ByHand) => {}
            Some(_) => return Err(format!("delivery {number} did not come whole to this outlet")),
            None => return Err(format!("delivery {number} was not for this outlet")),
        }
        let text = |kept: &Kept| {
            let hidden = || format!("secrets of delivery {number} cannot be decrypted here");
            kept.expose().cloned().ok_or_else(hidden)
        };
        let nothing = || format!("delivery {number} has nothing for this outlet");
        match made {
            Made::Files(_) => {
                let there = |(path, kept): (&String, &Kept)| {
                    Ok((path.clone(), Ok(FileThere { text: text(kept)?, mode: None })))
                };
                let files = self.content.files.iter().map(there).collect::<Result<_, String>>()?;
                Ok(Held::Files(FilesThere { files, others: Vec::new(), has_more: false }))
            }
            Made::Content(_) => match (self.content.documents.get(outlet), self.content.rows.get(outlet)) {
                (Some(document), _) => Ok(Held::Document(text(document)?, None)),
                (None, Some(rows)) => {
                    let rows: BTreeMap<String, String> =
                        serde_json::from_str(&text(rows)?).map_err(|_| nothing())?;
                    Ok(Held::Rows(
                        rows.into_iter().map(|(name, text)| (name, Zeroizing::new(text))).collect(),
                    ))
                }
                (None, None) => Err(nothing()),
            },
            Made::Environment(_) | Made::Fields(_) => Err(nothing()),
        }
    }
}

fn key(ledger: &Ledger, subject: Subject, stage: StageId) -> (String, String) {
    (ledger.owner(subject).to_string(), ledger.stage(stage).name.to_string())
}
