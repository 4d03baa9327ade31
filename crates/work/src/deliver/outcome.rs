//! What came of delivering.

use std::sync::Arc;

use cledger_core::findings::Finding;
use cledger_core::model::Ledger;
use cledger_store::daybook::Record;

use crate::bringing::brought::Brought;
use crate::deliver::bundle::Together;
use crate::deliver::plan::Plan;
use crate::deliver::withdrawn::Withdrawn;
use crate::trouble::{Kind, Trouble};

/// What came of the delivery of one unit.
#[derive(Debug)]
pub struct Delivery {
    /// What was to be brought.
    pub plan: Plan,
    /// What the outlets answered; nothing where it was only shown, or left out.
    pub brought: Vec<Brought>,
    /// The record, where one was made.
    pub recorded: Option<Record>,
    /// Why it was not made, or not to its end.
    pub trouble: Option<Trouble>,
}

/// What came of deliveries.
#[derive(Debug)]
pub struct Delivered {
    /// The ledger that they were made from.
    pub ledger: Arc<Ledger>,
    /// The bundle that was delivered, if it was one.
    pub together: Option<Together>,
    /// One for each unit.
    pub deliveries: Vec<Delivery>,
    /// Units that the stage still has something of, and that do not belong to it any more.
    pub left_over: Vec<Withdrawn>,
    /// What keeps all of them from being made.
    pub gaps: Vec<Finding>,
    /// Whether they were to be made, and not only shown.
    pub write: bool,
    /// Whether what is not ours may be overwritten.
    pub overwrites: bool,
    /// What ended the work after some of it was done.
    pub trouble: Option<Trouble>,
}

impl Delivery {
    /// Whether it was to be made, and was not, or not well.
    pub(crate) fn has_failed(&self) -> bool {
        self.trouble.is_some() || !self.brought.iter().all(Brought::is_well)
    }

    /// What kind of trouble there was, if any; `overwrites` says that what is not ours may be overwritten.
    fn kind(&self, overwrites: bool) -> Option<Kind> {
        if let Some(trouble) = &self.trouble {
            return Some(trouble.kind());
        }
        if self.plan.outlets.iter().any(|outlet| outlet.reason().is_some())
            || !self.brought.iter().all(Brought::is_well)
        {
            return Some(Kind::Outside);
        }
        (self.brought.is_empty() && !overwrites && self.plan.is_blocked()).then_some(Kind::Found)
    }
}

impl Delivered {
    /// Nothing was delivered, for this reason, where something else was done before it.
    pub(crate) fn nothing(ledger: Arc<Ledger>, trouble: Trouble) -> Self {
        Self {
            ledger,
            together: None,
            deliveries: Vec::new(),
            left_over: Vec::new(),
            gaps: Vec::new(),
            write: true,
            overwrites: false,
            trouble: Some(trouble),
        }
    }

    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        if let Some(trouble) = &self.trouble {
            return Some(trouble.kind());
        }
        if !self.gaps.is_empty() {
            return Some(Kind::Found);
        }
        let deliveries = self.deliveries.iter().filter_map(|delivery| delivery.kind(self.overwrites));
        deliveries.chain(self.left_over.iter().filter_map(Withdrawn::kind)).max()
    }
}
