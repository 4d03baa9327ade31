//! One record of the daybook, and what its hash covers.

use serde::{Deserialize, Serialize};

use super::{DaybookError, Packed};

/// The version of the form. The first had words of English in place of the states of outlets, and one `note`
/// for three things.
const FORMAT: u32 = 2;

/// The first version, which is still read.
const FIRST: u32 = 1;

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
    /// The outlet took what was brought, and holds something else.
    #[serde(alias = "not held")]
    NotHeld,
    /// Somebody had changed it since it was looked at, and nothing was written.
    #[serde(alias = "changed meanwhile")]
    ChangedMeanwhile,
    /// It was not brought.
    #[serde(alias = "not brought")]
    NotBrought,
    /// Nobody can tell.
    #[serde(alias = "not known")]
    NotKnown,
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
    /// The unit or instance.
    pub unit: String,
    /// The stage.
    pub stage: String,
    /// Its number among the deliveries and withdrawals of this unit in this stage, from 1; that of a chore
    /// among its chores.
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
            FORMAT => {}
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

impl Record {
    /// Whether it is what was recorded, at this place behind the record with this hash. Secrets are not
    /// looked into.
    pub(super) fn verify(&self, place: u64, before: &str) -> Result<(), Broken> {
        let broken = |what| Broken {
            place,
            unit: self.meta.unit.clone(),
            stage: self.meta.stage.clone(),
            number: self.meta.number,
            what,
        };
        if self.meta.place != place {
            return Err(broken("a record before it is missing"));
        }
        if self.meta.before != before {
            return Err(broken("it follows another record than the one before it"));
        }
        if self.hash != hash_of(&self.text) {
            return Err(broken("it was changed"));
        }
        if self.packed.open_hash() != Some(&self.meta.open).filter(|open| !open.is_empty()).cloned() {
            return Err(broken("its content was changed"));
        }
        if self.meta.secrets.is_some() != self.packed.cipher_text.is_some() {
            return Err(broken("its secrets were taken out"));
        }
        Ok(())
    }
}

fn hash_of(text: &str) -> String {
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
}

impl Row {
    pub(super) fn new(meta: &Meta, packed: &Packed) -> Self {
        let text = meta.to_text();
        Self {
            place: signed(meta.place),
            unit: meta.unit.clone(),
            stage: meta.stage.clone(),
            number: signed(meta.number),
            chore: meta.kind == Kind::ChoreDone,
            hash: hash_of(&text),
            text,
            open: packed.open.clone(),
            cipher_text: packed.cipher_text.clone(),
        }
    }

    pub(super) fn of(record: &Record) -> Self {
        Self {
            place: signed(record.meta.place),
            unit: record.meta.unit.clone(),
            stage: record.meta.stage.clone(),
            number: signed(record.meta.number),
            chore: record.meta.kind == Kind::ChoreDone,
            text: record.text.clone(),
            hash: record.hash.clone(),
            open: record.packed.open.clone(),
            cipher_text: record.packed.cipher_text.clone(),
        }
    }

    /// The record; a row whose columns are others than its text says was tampered with.
    pub(super) fn into_record(self) -> Result<Record, DaybookError> {
        let mut meta = Meta::parse(&self.text)?;
        let told = (signed(meta.place), meta.unit.as_str(), meta.stage.as_str(), signed(meta.number));
        let is_chore = meta.kind == Kind::ChoreDone;
        if told != (self.place, self.unit.as_str(), self.stage.as_str(), self.number)
            || is_chore != self.chore
        {
            // The chain is told that this place is not what it was.
            "changed".clone_into(&mut meta.before);
        }
        let packed = Packed { open: self.open, cipher_text: self.cipher_text };
        Ok(Record { meta, hash: self.hash, text: self.text, packed })
    }
}

/// Numbers of the daybook are small: they count deliveries.
pub(super) fn signed(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

pub(super) fn unsigned(number: i64) -> u64 {
    u64::try_from(number).unwrap_or_default()
}
