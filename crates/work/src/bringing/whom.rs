//! Whose configuration is brought somewhere.

use cledger_core::address::Owner;
use cledger_core::model::{Ledger, StageId, Subject};

/// A unit or instance in a stage, whether the ledger knows it or not.
#[derive(Debug, Clone)]
pub(crate) struct Whom {
    pub(crate) owner: Owner,
    /// Who that is in the ledger; none where it does not belong to the stage any more.
    pub(crate) subject: Option<Subject>,
    pub(crate) stage: StageId,
}

impl Whom {
    /// A unit or instance that belongs to the stage.
    pub(crate) fn of(ledger: &Ledger, subject: Subject, stage: StageId) -> Self {
        Self { owner: ledger.owner(subject), subject: Some(subject), stage }
    }
}
