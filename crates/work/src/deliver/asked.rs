//! What is to be delivered.

use cledger_core::name::Name;
use cledger_store::daybook::Kind as RecordKind;
use jiff::Timestamp;

use crate::bringing::rules::Edits;
use crate::change::Consent;
use crate::trouble::Trouble;
use crate::whole_units::WholeUnits;

/// What becomes of a delivery that came to a part of its outlets only.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Settle {
    /// The rest of it is brought.
    Finish,
    /// What was there before it is brought back.
    PutBack,
}

/// How many units are brought at once where nothing is said of that.
pub const AT_ONCE: usize = 4;

/// What is to be delivered.
#[derive(Debug, Clone)]
#[expect(clippy::struct_excessive_bools, reason = "each is something that is wanted or not")]
pub struct ToDeliver {
    /// Which units; all that belong to the stage if none is named, and to the usual stage if none is named.
    pub what: WholeUnits,
    /// As what it is recorded: a delivery, or put there beside the usual way.
    pub kind: RecordKind,
    /// Bring the content of this delivery again, as a new one.
    pub again: Option<u64>,
    /// Bring what each unit had at this time again.
    pub again_at: Option<Timestamp>,
    /// What becomes of the last delivery, where it came to a part only.
    pub settle: Option<Settle>,
    /// Bring these fields alone, as ENTRY or ENTRY.FIELD; all if none is given.
    pub only: Vec<String>,
    /// What becomes of what is there and not ours.
    pub edits: Edits,
    /// Make the reason of what changes.
    pub draft_why: bool,
    /// Do not ask whether the stages before had a delivery of the same contract.
    pub skip_stages: bool,
    /// How many units are brought at once.
    pub at_once: usize,
    /// Begin no other one once a delivery has failed.
    pub stop_at_failure: bool,
    /// Agree to these fields, as ENTRY or ENTRY.FIELD, not being as they were tested.
    pub untested: Vec<String>,
    /// Deliver from a clone that does not have what was delivered last.
    pub not_merged: bool,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

impl ToDeliver {
    /// Whether the content of an earlier delivery is brought, and not what the ledger says.
    pub fn brings_earlier(&self) -> bool {
        self.again.is_some() || self.again_at.is_some() || self.settle.is_some()
    }

    /// Refuses what is not of several units, where they are meant.
    pub(crate) fn refuse_several(&self) -> Result<(), Trouble> {
        self.what.refuse_mixed_bundle("delivered")?;
        let is_one = self.what.only_one().is_some();
        if self.settle.is_some() && !is_one {
            let message = "what is finished or put back is a delivery of one unit";
            return Err(Trouble::usage(message).help("write UNIT@STAGE"));
        }
        if self.again.is_some() && !is_one && self.what.bundle().is_none() {
            let message = "the number of what is brought again is that of one unit or bundle";
            return Err(Trouble::usage(message)
                .help("write UNIT@STAGE or bundle:NAME@STAGE; for several: --again-at TIME"));
        }
        Ok(())
    }

    /// All of a stage's units as the ledger says, only shown.
    pub fn all_of(stage: Option<Name>) -> Self {
        Self {
            what: WholeUnits { stage, ..WholeUnits::default() },
            kind: RecordKind::Delivered,
            again: None,
            again_at: None,
            settle: None,
            only: Vec::new(),
            edits: Edits::default(),
            draft_why: false,
            skip_stages: false,
            at_once: AT_ONCE,
            stop_at_failure: false,
            untested: Vec::new(),
            not_merged: false,
            consent: Consent::default(),
            write: false,
        }
    }
}
