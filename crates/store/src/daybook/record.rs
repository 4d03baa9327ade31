//! One record of the daybook, and what its hash covers.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::digests::Digests;
use super::{DaybookError, Packed};

/// The version of the form. The first had words of English in place of the states of outlets, and one `note`
/// for three things; the second knew nothing of what was left, nor of chores that stay open; the third nothing of
/// chores that are asked for beside a delivery; the fourth nothing of bundles.
const FORMAT: u32 = 5;

/// The versions before, which are still read.
const FIRST: u32 = 1;
const SECOND: u32 = 2;
const THIRD: u32 = 3;
const FOURTH: u32 = 4;

/// What a record is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// A delivery.
    Delivered,
    /// What was delivered was taken off the outlets.
    Withdrawn,
    /// A chore was done.
    ChoreDone,
    /// Chores were asked for beside a delivery.
    ChoresAsked,
    /// What was there before the first delivery, as it was taken into the ledger. Its number is 0.
    Found,
    /// It was brought to the outlets beside the usual way.
    Put,
    /// A bundle was delivered: its units have records of their own, which this one lists.
    BundleDelivered,
    /// What was delivered of a bundle was taken off the outlets.
    BundleWithdrawn,
}

impl Kind {
    /// The words for it.
    pub fn words(self) -> &'static str {
        match self {
            Kind::Delivered => "delivered",
            Kind::Withdrawn => "withdrawn",
            Kind::ChoreDone => "chore done",
            Kind::ChoresAsked => "chores asked for",
            Kind::Found => "found there",
            Kind::Put => "put",
            Kind::BundleDelivered => "delivered together",
            Kind::BundleWithdrawn => "withdrawn together",
        }
    }

    /// Whether something was brought to outlets.
    pub fn is_brought(self) -> bool {
        matches!(self, Kind::Delivered | Kind::Put)
    }

    /// Whether it stands beside the deliveries of units, with a number of its own: it is of chores alone, or of a bundle.
    pub fn is_beside(self) -> bool {
        matches!(self, Kind::ChoreDone | Kind::ChoresAsked) || self.is_of_bundle()
    }

    /// Whether it is of a bundle.
    pub fn is_of_bundle(self) -> bool {
        matches!(self, Kind::BundleDelivered | Kind::BundleWithdrawn)
    }

    /// Whether it says what a stage has: a delivery, whatever the way, or a withdrawal.
    pub fn is_standing(self) -> bool {
        self.is_brought() || self == Kind::Withdrawn
    }
}

/// How a unit stands at an outlet once it was brought there. The words of the first form are read as well.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AnswerState {
    /// It was as it should be, and nothing was brought.
    #[serde(alias = "as it should be")]
    AsItShouldBe,
    /// It was brought, and is there.
    #[serde(alias = "brought, in effect", alias = "brought, not in effect")]
    Brought,
    /// It was taken off, and is not there any more.
    #[serde(alias = "taken off")]
    TakenOff,
    /// It was to be taken off, and was not there.
    #[serde(alias = "was not there")]
    WasNotThere,
    /// It was to be taken off, and stays: the place is another unit's by now.
    HandedOn,
    /// The outlet took what was brought, and holds something else.
    #[serde(alias = "not held")]
    NotHeld,
    /// Somebody had changed it since it was looked at, and nothing was written.
    #[serde(alias = "changed meanwhile")]
    ChangedMeanwhile,
    /// It was not brought.
    #[serde(alias = "not brought")]
    NotBrought,
    /// Some of it was brought, and some was not.
    InPart,
    /// Somebody has to bring it by hand: the reason says what to do.
    ByHand,
    /// Nobody can tell.
    #[serde(alias = "not known")]
    NotKnown,
}

impl AnswerState {
    /// Whether the outlet is known to have all of it.
    pub fn is_whole(self) -> bool {
        matches!(
            self,
            Self::AsItShouldBe
                | Self::Brought
                | Self::TakenOff
                | Self::WasNotThere
                | Self::HandedOn
                | Self::ByHand
        )
    }

    /// Whether the outlet is known to be as it was before.
    pub fn is_without_effect(self) -> bool {
        matches!(self, Self::ChangedMeanwhile | Self::NotBrought)
    }
}

/// Names that a delivery left as they were there.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Left {
    /// The outlet.
    pub outlet: String,
    /// The file's path; null where the outlet has one thing for each unit.
    pub path: Option<String>,
    /// The names in it, as lists of steps; none for the whole file.
    pub names: Vec<Vec<String>>,
}

/// What an outlet answered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Answer {
    /// The outlet.
    pub outlet: String,
    /// Its kind.
    pub kind: String,
    /// What came of it.
    pub state: AnswerState,
    /// Whether it counts there; null where nothing is said of that.
    pub in_effect: Option<bool>,
    /// Why not, where something went wrong.
    pub reason: Option<String>,
}

/// A unit in the record of its bundle.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Member {
    /// The unit or instance.
    pub unit: String,
    /// The number of its record that the stage had in the end; null where it had none.
    pub number: Option<u64>,
    /// What came of it.
    pub state: AnswerState,
}

/// What is known of a delivery beside its content.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Meta {
    /// The version of this form.
    pub format: u32,
    /// Its place in the chain, from 1.
    pub place: u64,
    /// The hash of the record before; empty for the first.
    pub before: String,
    /// The unit or instance; `bundle:NAME` for a bundle.
    pub unit: String,
    /// The stage.
    pub stage: String,
    /// Its number among the deliveries and withdrawals of this unit in this stage, from 1; of what stands beside them
    /// among that.
    pub number: u64,
    /// What it is of.
    pub kind: Kind,
    /// When (RFC 3339, UTC).
    pub time: String,
    /// Who: a user's name, or what `CLEDGER_WHO` says.
    pub who: String,
    /// On which machine.
    pub host: Option<String>,
    /// Why.
    pub why: String,
    /// The unit's version.
    pub version: Option<String>,
    /// The hash of the contract.
    pub contract: String,
    /// The hash of what is open in the content.
    pub open: String,
    /// The salted hash of the secrets in it.
    pub secrets: Option<String>,
    /// The commit that the ledger is at, if it is in git.
    pub revision: Option<String>,
    /// Whether the ledger had changes that are in no commit.
    pub uncommitted: Option<bool>,
    /// The number of the delivery whose content came again.
    pub again: Option<u64>,
    /// What the outlets answered.
    pub outlets: Vec<Answer>,
    /// The text of the chore that was done.
    #[serde(default)]
    pub chore: Option<String>,
    /// Who finished what somebody else had left open.
    #[serde(default)]
    pub finished_by: Option<String>,
    /// Whether nobody asked for a delivery to the stages before.
    #[serde(default)]
    pub stages_left_out: bool,
    /// What was left as it was there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left: Vec<Left>,
    /// The texts of the chores that are open after it: those that it asks for, and those from before. Where they are
    /// asked for beside a delivery, these alone.
    #[serde(default)]
    pub chores: Option<Vec<String>>,
    /// Whether only some fields were brought.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub only: bool,
    /// The fields that were not as they were delivered to the stages before, where somebody agreed to that.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub untested: Vec<String>,
    /// The units of a bundle, in the order in which they were brought or taken off.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub members: Vec<Member>,
    /// What the first form has in place of the three before.
    #[serde(default, skip_serializing)]
    note: Option<String>,
}

impl Meta {
    /// What is known before anything is brought. Place, number and hashes come later.
    pub fn new(unit: &str, stage: &str, kind: Kind, who: String, why: &str, time: String) -> Self {
        Self {
            format: FORMAT,
            place: 0,
            before: String::new(),
            unit: unit.to_owned(),
            stage: stage.to_owned(),
            number: 0,
            kind,
            time,
            who,
            host: None,
            why: why.to_owned(),
            version: None,
            contract: String::new(),
            open: String::new(),
            secrets: None,
            revision: None,
            uncommitted: None,
            again: None,
            outlets: Vec::new(),
            chore: None,
            finished_by: None,
            stages_left_out: false,
            left: Vec::new(),
            chores: None,
            only: false,
            untested: Vec::new(),
            members: Vec::new(),
            note: None,
        }
    }

    pub(super) fn to_text(&self) -> String {
        // It is made of texts and numbers, which always serialise.
        serde_json::to_string(self).unwrap_or_default()
    }

    pub(super) fn parse(text: &str) -> Result<Self, DaybookError> {
        let mut meta: Meta =
            serde_json::from_str(text).map_err(|error| DaybookError::Damaged(error.to_string()))?;
        match meta.format {
            FORMAT | FOURTH | THIRD | SECOND => {}
            FIRST => meta.read_note(),
            other => return Err(DaybookError::Version(other)),
        }
        Ok(meta)
    }

    /// Says of a record of the first form what its note says.
    fn read_note(&mut self) {
        let Some(note) = self.note.take() else { return };
        if self.kind == Kind::ChoreDone {
            self.chore = Some(note);
        } else if let Some(who) = note.strip_prefix("finished by ") {
            self.finished_by = Some(who.to_owned());
        } else {
            self.stages_left_out = note == "stages before it were left out";
        }
    }
}

/// A record as it is kept.
#[derive(Debug, Clone)]
pub struct Record {
    /// What is known of it.
    pub meta: Meta,
    /// Its hash.
    pub hash: String,
    /// The text that the hash covers.
    pub(super) text: String,
    /// Its content.
    pub packed: Packed,
    /// Whether the columns of its row say what its text says.
    pub(super) agrees: bool,
}

/// A delivery that was put down as open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Open {
    /// What is known of it.
    pub meta: Meta,
    /// What it brings.
    pub packed: Packed,
    /// What whoever has it in hand knows: another program that takes it up gives it another one.
    pub token: String,
}

/// Why a chain does not hold.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("record {place} ({unit}@{stage}:{number}): {what}")]
pub struct Broken {
    /// Its place in the chain.
    pub place: u64,
    /// The unit.
    pub unit: String,
    /// The stage.
    pub stage: String,
    /// Its number.
    pub number: u64,
    /// What is wrong.
    pub what: &'static str,
}

impl Broken {
    fn of(meta: &Meta, what: &'static str) -> Self {
        let Meta { place, number, .. } = *meta;
        Self { place, unit: meta.unit.clone(), stage: meta.stage.clone(), number, what }
    }
}

impl Record {
    /// Whether it is what was recorded, at this place behind the record with this hash. Secrets are not
    /// looked into.
    pub(super) fn verify(&self, place: u64, before: &str) -> Result<(), Broken> {
        if self.meta.place != place {
            return Err(Broken::of(&self.meta, "a record before it is missing"));
        }
        if self.meta.before != before {
            return Err(Broken::of(&self.meta, "it follows another record than the one before it"));
        }
        self.verify_alone()
    }

    /// Whether it is what was recorded, wherever it stands. Secrets are not looked into.
    pub(super) fn verify_alone(&self) -> Result<(), Broken> {
        verify_text(&self.meta, &self.text, &self.hash, self.agrees)?;
        verify_content(&self.meta, &self.packed)
    }
}

impl Open {
    /// What a row of text, content, token and hash says. It must be as it was put down; the first two versions of
    /// the tables have no hash of that.
    pub(super) fn of_row(
        (text, packed, token, hash): (String, Packed, String, Option<String>),
    ) -> Result<Self, DaybookError> {
        let meta = Meta::parse(&text)?;
        if hash.is_some_and(|hash| hash != hash_of(&text)) {
            return Err(Broken::of(&meta, "it was left open, and changed since").into());
        }
        verify_content(&meta, &packed)?;
        Ok(Self { meta, packed, token })
    }
}

/// Whether what is known of a record is what was recorded.
pub(super) fn verify_text(meta: &Meta, text: &str, hash: &str, agrees: bool) -> Result<(), Broken> {
    if agrees && hash == hash_of(text) { Ok(()) } else { Err(Broken::of(meta, "it was changed")) }
}

fn verify_content(meta: &Meta, packed: &Packed) -> Result<(), Broken> {
    if packed.open_hash() != Some(&meta.open).filter(|open| !open.is_empty()).cloned() {
        return Err(Broken::of(meta, "its content was changed"));
    }
    if meta.secrets.is_some() != packed.cipher_text.is_some() {
        return Err(Broken::of(meta, "its secrets were taken out"));
    }
    Ok(())
}

pub(super) fn hash_of(text: &str) -> String {
    blake3::hash(text.as_bytes()).to_hex().to_string()
}

/// A record as a row of a table.
#[derive(Debug, Clone)]
pub(super) struct Row {
    pub(super) place: i64,
    pub(super) unit: String,
    pub(super) stage: String,
    pub(super) number: i64,
    pub(super) chore: bool,
    pub(super) text: String,
    pub(super) hash: String,
    pub(super) open: Vec<u8>,
    pub(super) cipher_text: Option<String>,
    pub(super) digests: Option<String>,
}

impl Row {
    pub(super) fn new(meta: &Meta, packed: &Packed) -> Self {
        let text = meta.to_text();
        Self {
            place: signed(meta.place),
            unit: meta.unit.clone(),
            stage: meta.stage.clone(),
            number: signed(meta.number),
            chore: meta.kind.is_beside(),
            hash: hash_of(&text),
            text,
            open: packed.open.clone(),
            cipher_text: packed.cipher_text.clone(),
            digests: packed.digests.clone(),
        }
    }

    pub(super) fn of(record: &Record) -> Self {
        Self {
            place: signed(record.meta.place),
            unit: record.meta.unit.clone(),
            stage: record.meta.stage.clone(),
            number: signed(record.meta.number),
            chore: record.meta.kind.is_beside(),
            text: record.text.clone(),
            hash: record.hash.clone(),
            open: record.packed.open.clone(),
            cipher_text: record.packed.cipher_text.clone(),
            digests: record.packed.digests.clone(),
        }
    }

    /// Whether its columns say what its text says: they were tampered with otherwise.
    fn agrees(&self, meta: &Meta) -> bool {
        let told = (signed(meta.place), meta.unit.as_str(), meta.stage.as_str(), signed(meta.number));
        told == (self.place, self.unit.as_str(), self.stage.as_str(), self.number)
            && meta.kind.is_beside() == self.chore
    }

    /// The record, as it stands there.
    pub(super) fn into_record(self) -> Result<Record, DaybookError> {
        let meta = Meta::parse(&self.text)?;
        let agrees = self.agrees(&meta);
        let packed = Packed { open: self.open, cipher_text: self.cipher_text, digests: self.digests };
        Ok(Record { meta, hash: self.hash, text: self.text, packed, agrees })
    }

    /// What is known of the record, which must be as it was recorded, and the digests of its values. Its content
    /// need not be in the row.
    pub(super) fn into_entry(self) -> Result<Entry, DaybookError> {
        let meta = Meta::parse(&self.text)?;
        verify_text(&meta, &self.text, &self.hash, self.agrees(&meta))?;
        Ok(Entry { meta, hash: self.hash, digests: self.digests })
    }
}

/// A record without its content.
#[derive(Debug, Clone)]
pub struct Entry {
    /// What is known of it.
    pub meta: Meta,
    /// Its hash.
    pub hash: String,
    /// The digests of its values, as they are kept, where they were asked for.
    pub(super) digests: Option<String>,
}

impl Entry {
    /// The digests of its values; none where they were not asked for, or there were none yet.
    pub fn digests(&self) -> Result<Option<Digests>, DaybookError> {
        self.digests.as_deref().map(Digests::parse).transpose()
    }
}

/// What is known of the records in these rows, in their order.
pub(super) fn entries_of(rows: Vec<Row>) -> Result<Vec<Entry>, DaybookError> {
    rows.into_par_iter().map(Row::into_entry).collect()
}

/// Numbers of the daybook are small: they count deliveries.
pub(super) fn signed(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

pub(super) fn unsigned(number: i64) -> u64 {
    u64::try_from(number).unwrap_or_default()
}
