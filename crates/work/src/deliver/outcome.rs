//! What is to be delivered, and what came of it.

use std::sync::Arc;

use cledger_core::address::Owner;
use cledger_core::findings::Finding;
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_store::daybook::Record;

use crate::change::Consent;
use crate::deliver::plan::Plan;
use crate::reality::brought::Brought;
use crate::trouble::{Kind, Trouble};

/// What is to be delivered.
#[derive(Debug, Clone)]
pub struct ToDeliver {
    /// The units and instances; all that belong to the stage if none is named.
    pub owners: Vec<Owner>,
    /// The stage; the usual one if it is not named.
    pub stage: Option<Name>,
    /// Bring the content of this delivery again, as a new one.
    pub again: Option<u64>,
    /// Bring these fields alone, as ENTRY or ENTRY.FIELD; all if none is given.
    pub only: Vec<String>,
    /// Make the reason of what changes.
    pub draft_why: bool,
    /// Do not ask whether the stages before had a delivery of the same contract.
    pub skip_stages: bool,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

/// What came of the delivery of one unit.
#[derive(Debug)]
pub struct Delivery {
    /// What was to be brought.
    pub plan: Plan,
    /// What the outlets answered; nothing where it was only shown, or left out.
    pub brought: Vec<Brought>,
    /// The record, where one was made.
    pub recorded: Option<Record>,
}

/// What came of deliveries.
#[derive(Debug)]
pub struct Delivered {
    /// The ledger that they were made from.
    pub ledger: Arc<Ledger>,
    /// One for each unit.
    pub deliveries: Vec<Delivery>,
    /// What keeps all of them from being made.
    pub gaps: Vec<Finding>,
    /// Whether they were to be made, and not only shown.
    pub write: bool,
    /// What ended the work after some of it was done.
    pub trouble: Option<Trouble>,
}

impl Delivered {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        if let Some(trouble) = &self.trouble {
            return Some(trouble.kind());
        }
        if !self.gaps.is_empty() {
            return Some(Kind::Found);
        }
        let all_well = self.deliveries.iter().all(|delivery| delivery.brought.iter().all(Brought::is_well));
        (!all_well).then_some(Kind::Outside)
    }
}
