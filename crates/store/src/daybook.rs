//! The daybook: the record of deliveries.
//!
//! Each record carries the hash of the one before, whatever unit that was of, so that none can be changed,
//! put in or taken out without its followers telling. A hash covers what is known of a delivery and
//! fingerprints of its content, not the cipher texts in it: these may be encrypted anew.
//!
//! A delivery is first put down as open, with all that it is going to bring, and recorded when it is over.
//! What an interrupted program leaves open is there for whoever comes next.

mod content;
mod postgres;
mod record;
mod sqlite;
mod timed;

pub use content::{BOTH, Content, Hashes, PackError, Packed, bound_to};
pub use postgres::PostgresDaybook;
pub use record::{Answer, AnswerState, Broken, Kind, Meta, Record};
pub use sqlite::SqliteDaybook;
pub use timed::TimedDaybook;

use record::{Row, unsigned};

/// The version of the tables. What the second calls `cipher_text` was `sealed` in the first, which had no version.
const SCHEMA: u32 = 2;

/// What the column of cipher texts is called in tables of a version.
fn cipher_column(version: u32) -> Result<&'static str, DaybookError> {
    match version {
        SCHEMA => Ok("cipher_text"),
        1 => Ok("sealed"),
        other => Err(DaybookError::Version(other)),
    }
}

/// Where the embedded daybook is, below the ledger.
pub const EMBEDDED: &str = ".cledger/daybook.db";

/// Why the daybook cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum DaybookError {
    /// Somebody else is delivering the same unit to the same stage.
    #[error("somebody else is delivering `{0}@{1}` just now")]
    Busy(String, String),
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
    /// Only chores that were done, or everything but these.
    pub chores: Option<bool>,
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

    /// The last delivery or withdrawal of each unit and stage.
    pub fn last_of_all() -> Self {
        Self { last: true, chores: Some(false), ..Self::default() }
    }

    /// The delivery or withdrawal of a unit in a stage with this number.
    pub fn numbered(unit: &str, stage: &str, number: u64) -> Self {
        Self { number: Some(number), chores: Some(false), ..Self::of(unit, stage) }
    }
}

/// What keeps a daybook. Every method is one transaction: it is done, or nothing is.
pub trait Daybook {
    /// Makes sure that nobody else delivers this unit to this stage until it is let go, or the program ends.
    fn hold(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError>;

    /// Lets go again.
    fn let_go(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError>;

    /// Puts a delivery down as open, in place of one of the same unit and stage.
    fn open(&mut self, meta: &Meta, packed: &Packed) -> Result<(), DaybookError>;

    /// What is open.
    fn opened(&mut self) -> Result<Vec<(Meta, Packed)>, DaybookError>;

    /// Forgets an open delivery of which nothing has been brought.
    fn close(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError>;

    /// Records what is over, and closes it: its place in the chain and its number are given now.
    fn record(&mut self, meta: Meta, packed: &Packed) -> Result<Record, DaybookError>;

    /// The records that are wanted, in the order of the chain.
    fn records(&mut self, wanted: &Wanted) -> Result<Vec<Record>, DaybookError>;

    /// Takes whole records over, as they are, into an empty daybook.
    fn take_over(&mut self, records: &[Record]) -> Result<(), DaybookError>;

    /// Puts other cipher texts in place of those of these records, by their places in the chain.
    fn reseal(&mut self, cipher_texts: &[(u64, String)]) -> Result<(), DaybookError>;
}

/// A unit in a stage that nobody else delivers to meanwhile. It lets go when it is dropped.
pub struct Hold<'b> {
    book: &'b mut dyn Daybook,
    unit: String,
    stage: String,
}

impl<'b> Hold<'b> {
    /// Holds a unit in a stage.
    pub fn take(book: &'b mut dyn Daybook, unit: &str, stage: &str) -> Result<Self, DaybookError> {
        book.hold(unit, stage)?;
        Ok(Self { book, unit: unit.to_owned(), stage: stage.to_owned() })
    }

    /// The daybook, while it is held.
    pub fn book(&mut self) -> &mut dyn Daybook {
        self.book
    }
}

impl Drop for Hold<'_> {
    fn drop(&mut self) {
        // Where that fails, the program's end lets go.
        let _ = self.book.let_go(&self.unit, &self.stage);
    }
}

/// Makes the row that follows the last one.
fn following(last: Option<(i64, String)>, number: i64, mut meta: Meta, packed: &Packed) -> Row {
    let (place, before) = last.unwrap_or_default();
    meta.place = unsigned(place) + 1;
    meta.before = before;
    meta.number = unsigned(number) + 1;
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
