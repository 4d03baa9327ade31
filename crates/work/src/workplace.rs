//! Where work is done, by whom, and when: everything that a use case knows of the world around the ledger.
//!
//! Nothing here is read from the environment: whoever makes a workplace says what it is. A program does that
//! once, when it starts; a test says what it likes.

use std::path::PathBuf;
use std::sync::Arc;

use cledger_core::types::parse_date;
use cledger_store::{Identity, State, find};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::Offset;
use zeroize::Zeroizing;

use crate::asking::{Asking, Nobody, Stepping, Telling};
use crate::trouble::Trouble;

/// Where, by whom and when something is done.
pub struct Workplace {
    /// The ledger's folder, where it was named; else the nearest one upwards is meant.
    pub named: Option<PathBuf>,
    /// The folder that one stands in.
    pub here: PathBuf,
    /// Whoever works, as far as keys are concerned.
    pub identity: Arc<Identity>,
    /// What is remembered of ledgers.
    pub state: State,
    /// Who works, for records.
    pub who: Option<String>,
    /// On which machine.
    pub host: Option<String>,
    /// The stage that is meant where none is named, if not the ledger's default.
    pub usual_stage: Option<UsualStage>,
    /// The day that counts as today where none is given, as text; by the clock (UTC) if there is none.
    pub today: Option<String>,
    /// Tells the time.
    pub clock: fn() -> Timestamp,
    /// Whether ledgers may reach what they name, whatever was said of them before.
    pub is_trusted: bool,
    /// Where the daybook's database is, for ledgers that have one.
    pub daybook: Option<Zeroizing<String>>,
    /// Whoever is told what happens beside the result.
    pub telling: Box<dyn Telling + Send + Sync>,
    /// Whoever can be asked.
    pub asking: Box<dyn Asking + Send + Sync>,
    /// Whoever is asked before each step that leaves something behind.
    pub stepping: Box<dyn Stepping + Send + Sync>,
}

/// The stage that is meant where none is named.
#[derive(Debug, Clone)]
pub struct UsualStage {
    /// Its name.
    pub name: String,
    /// What says so.
    pub by: String,
}

impl Workplace {
    /// The same where others are told and asked, and another identity is used.
    #[must_use]
    pub(crate) fn with(
        &self,
        telling: Box<dyn Telling + Send + Sync>,
        asking: Box<dyn Asking + Send + Sync>,
        identity: Arc<Identity>,
    ) -> Self {
        Self {
            named: self.named.clone(),
            here: self.here.clone(),
            identity,
            state: self.state.clone(),
            who: self.who.clone(),
            host: self.host.clone(),
            usual_stage: self.usual_stage.clone(),
            today: self.today.clone(),
            clock: self.clock,
            is_trusted: self.is_trusted,
            daybook: self.daybook.clone(),
            telling,
            asking,
            stepping: Box::new(Nobody),
        }
    }

    /// The ledger's folder.
    pub fn root(&self) -> Result<PathBuf, Trouble> {
        Ok(find(self.named.as_deref(), &self.here)?)
    }

    /// A day that somebody typed, else the one that counts as today.
    pub fn day(&self, typed: Option<&str>) -> Result<Date, Trouble> {
        match typed.or(self.today.as_deref()) {
            None => Ok(Offset::UTC.to_datetime((self.clock)()).date()),
            Some(text) => parse_date(text)
                .ok_or_else(|| Trouble::usage(format!("`{text}` is no day")).help("write it as 2027-01-31")),
        }
    }

    /// The day that counts as today.
    pub fn today(&self) -> Result<Date, Trouble> {
        self.day(None)
    }

    /// The time now, as records have it (RFC 3339, UTC).
    pub fn now(&self) -> String {
        (self.clock)().to_string()
    }

    /// Who works, for records; empty where nobody says so.
    pub(crate) fn who(&self) -> String {
        self.who.clone().unwrap_or_default()
    }
}
