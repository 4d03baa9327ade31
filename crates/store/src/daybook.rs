//! The daybook: the record of deliveries.
//!
//! Each record carries the hash of the one before, whatever unit that was of, so that none can be changed,
//! put in or taken out without its followers telling. A hash covers what is known of a delivery and
//! fingerprints of its content, not the cipher texts in it: these may be encrypted anew.
//!
//! A delivery is first put down as open, with all that it is going to bring, and recorded when it is over.
//! What an interrupted program leaves open is there for whoever comes next.

mod cipher_texts;
mod content;
mod digests;
mod postgres;
mod record;
mod schema;
mod sqlite;
mod sqlite_error;
mod timed;

pub use cipher_texts::{BOTH, bound_to, bound_to_digests};
pub use content::{Content, Hashes, PackError, Packed};
pub use digests::{Differing, Digests};
pub use postgres::PostgresDaybook;
pub use record::{Answer, AnswerState, Broken, Entry, Kind, Left, Member, Meta, Open, Record};
pub use sqlite::SqliteDaybook;
pub use timed::TimedDaybook;

pub use crate::keys::WrappedKey;

use record::{Row, unsigned};

/// The version of the tables. What the second calls `cipher_text` was `sealed` in the first, which had no version;
/// the third knows digests, tokens and wrapped keys.
const SCHEMA: u32 = 3;

/// What stands for the columns of cipher texts, digests, tokens and hashes of open deliveries in tables of a
/// version.
fn columns(version: u32) -> [&'static str; 4] {
    match version {
        1 => ["sealed", "NULL", "''", "NULL"],
        2 => ["cipher_text", "NULL", "''", "NULL"],
        _ => ["cipher_text", "digests", "token", "hash"],
    }
}

/// How much of a record is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Reading {
    /// What is known of it.
    Meta,
    /// That, and the digests of its values.
    Digests,
    /// All of it.
    Content,
}

/// What nobody knows but who has an open delivery in hand.
fn new_token() -> Result<String, DaybookError> {
    let mut bytes = [0_u8; 32];
    getrandom::fill(&mut bytes).map_err(|error| DaybookError::Failed(error.to_string()))?;
    Ok(blake3::Hash::from_bytes(bytes).to_hex().to_string())
}

/// Where the embedded daybook is, below the ledger.
pub const EMBEDDED: &str = ".cledger/daybook.db";

/// Why the daybook cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum DaybookError {
    /// Somebody else is delivering the same unit to the same stage.
    #[error("somebody else is delivering `{0}@{1}` just now")]
    Busy(String, String),
    /// Somebody delivers something to the stage, or changes its key.
    #[error("somebody else is delivering to `{0}`, or changing its key, just now")]
    StageBusy(String),
    /// A delivery of the unit to the stage was left open.
    #[error("a delivery of `{0}@{1}` was left open")]
    LeftOpen(String, String),
    /// Somebody else has taken up, finished or dropped what was open.
    #[error("somebody else has finished the delivery of `{0}@{1}` meanwhile")]
    Lost(String, String),
    /// A record is not what was recorded.
    #[error("the daybook was changed by hand: {0}")]
    Changed(#[from] Broken),
    /// It is damaged, or no daybook at all.
    #[error("the daybook cannot be read: {0}")]
    Damaged(String),
    /// A program that wrote it was interrupted, and whoever only reads does not carry that out.
    #[error("the daybook cannot be read: a program was interrupted while it wrote")]
    Unfinished,
    /// What keeps it refuses.
    #[error("the daybook fails: {0}")]
    Failed(String),
    /// It was written by a later version of the program.
    #[error("the daybook is of version {0}, which this program does not know")]
    Version(u32),
}

/// Which records are wanted.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Wanted {
    /// Only of this unit or instance.
    pub unit: Option<String>,
    /// Only of this stage.
    pub stage: Option<String>,
    /// Only with this number.
    pub number: Option<u64>,
    /// Only the last of each unit and stage.
    pub last: bool,
    /// Only what stands beside deliveries, of chores or bundles, or everything but that.
    pub beside: Option<bool>,
}

impl Wanted {
    /// All records of a unit in a stage.
    pub fn of(unit: &str, stage: &str) -> Self {
        Self { unit: Some(unit.to_owned()), stage: Some(stage.to_owned()), ..Self::default() }
    }

    /// The last delivery or withdrawal of a unit in a stage.
    pub fn last_of(unit: &str, stage: &str) -> Self {
        Self { unit: Some(unit.to_owned()), stage: Some(stage.to_owned()), ..Self::last_of_all() }
    }

    /// The last delivery or withdrawal of each unit and stage; what was found there is none.
    pub fn last_of_all() -> Self {
        Self { last: true, beside: Some(false), ..Self::default() }
    }

    /// The delivery or withdrawal of a unit in a stage with this number.
    pub fn numbered(unit: &str, stage: &str, number: u64) -> Self {
        Self { number: Some(number), beside: Some(false), ..Self::of(unit, stage) }
    }
}

/// What keeps a daybook. Every method is one transaction: it is done, or nothing is.
pub trait Daybook: Send {
    /// Makes sure that nobody else delivers this unit to this stage until it is let go, or the program ends.
    fn hold(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError>;

    /// Lets go again.
    fn let_go(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError>;

    /// Makes sure that nobody delivers anything to this stage until it is let go, or the program ends.
    fn hold_stage(&mut self, stage: &str) -> Result<(), DaybookError>;

    /// Lets the stage go again.
    fn let_stage_go(&mut self, stage: &str) -> Result<(), DaybookError>;

    /// Puts a delivery down as open, if none of the unit and stage is, and gives the token of whoever has it in
    /// hand.
    fn open(&mut self, meta: &Meta, packed: &Packed) -> Result<String, DaybookError>;

    /// What is open, or what of it is of this unit in this stage.
    fn opened(&mut self, of: Option<(&str, &str)>) -> Result<Vec<Open>, DaybookError>;

    /// Takes up what somebody has left open, and gives it a new token.
    fn take_up(&mut self, open: &Open) -> Result<String, DaybookError>;

    /// Forgets an open delivery of which nothing has been brought.
    fn close(&mut self, unit: &str, stage: &str, token: &str) -> Result<(), DaybookError>;

    /// Records what is over: its place in the chain and its number are given now, this one behind what it says of
    /// itself. With the token of an open delivery that is closed in the same step.
    fn record(&mut self, meta: Meta, packed: &Packed, open: Option<&str>) -> Result<Record, DaybookError>;

    /// The records that are wanted, in the order of the chain, as they are: whether they are what was recorded is
    /// for the caller to see.
    fn as_they_are(&mut self, wanted: &Wanted) -> Result<Vec<Record>, DaybookError>;

    /// The records that are wanted, without their contents, and with the digests of their values if these are
    /// asked for. Each is as it was recorded.
    fn entries(&mut self, wanted: &Wanted, digests: bool) -> Result<Vec<Entry>, DaybookError>;

    /// Takes whole records over, as they are, into an empty daybook, with the keys that they need.
    fn take_over(&mut self, records: &[Record], keys: &[WrappedKey]) -> Result<(), DaybookError>;

    /// Puts other cipher texts in place of those of these records.
    fn reseal(&mut self, resealed: &[Resealed]) -> Result<(), DaybookError>;

    /// Keeps a key, wrapped for its readers, in place of an earlier generation of it.
    fn keep_key(&mut self, key: &WrappedKey) -> Result<(), DaybookError>;

    /// Forgets a key that no record needs any more.
    fn forget_key(&mut self, id: &str) -> Result<(), DaybookError>;

    /// The place and the hash of the record at a place in the chain; of the last one without a place.
    fn link(&mut self, place: Option<u64>) -> Result<Option<(u64, String)>, DaybookError>;

    /// The keys that are kept.
    fn kept_keys(&mut self) -> Result<Vec<WrappedKey>, DaybookError>;

    /// The records that are wanted, in the order of the chain. Each is as it was recorded.
    fn records(&mut self, wanted: &Wanted) -> Result<Vec<Record>, DaybookError> {
        let records = self.as_they_are(wanted)?;
        records.iter().try_for_each(Record::verify_alone)?;
        Ok(records)
    }
}

/// Other cipher texts for a record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Resealed {
    /// The record's place in the chain.
    pub place: u64,
    /// The cipher text of its secrets.
    pub cipher_text: String,
    /// Its digests, with the cipher text of their key.
    pub digests: Option<String>,
}

/// Makes the row that follows the last one.
fn following(last: Option<(i64, String)>, number: i64, mut meta: Meta, packed: &Packed) -> Row {
    let (place, before) = last.unwrap_or_default();
    meta.place = unsigned(place) + 1;
    meta.before = before;
    // What was found there before the first delivery stands before its number 1.
    meta.number = if meta.kind == Kind::Found { 0 } else { unsigned(number).max(meta.number) + 1 };
    Row::new(&meta, packed)
}

/// Whether a chain is whole: the first place where it is not.
pub fn verify(records: &[Record]) -> Result<(), Broken> {
    let (mut place, mut before) = (0, String::new());
    for record in records {
        record.verify(place + 1, &before)?;
        place += 1;
        before.clone_from(&record.hash);
    }
    Ok(())
}
