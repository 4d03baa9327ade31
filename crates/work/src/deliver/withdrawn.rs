//! What came of a withdrawal.

use cledger_core::model::{StageId, Subject};

use crate::bringing::at::AtOutlet;
use crate::bringing::brought::Brought;
use crate::trouble::{Kind, Trouble};

/// What came of a withdrawal.
#[derive(Debug)]
pub struct Withdrawn {
    /// The unit or instance.
    pub owner: String,
    /// The stage.
    pub stage: String,
    /// How it is called now, if it was only renamed.
    pub now: Option<String>,
    /// Who that is in the ledger, if it still belongs to the stage, for what follows.
    pub subject: Option<Subject>,
    /// The stage, for what follows.
    pub stage_id: StageId,
    /// The number of the record that is taken off.
    pub number: u64,
    /// Whether that is a withdrawal before, which did not come whole and is done again.
    pub again: bool,
    /// What the outlets have now, and what of that goes or is brought back.
    pub outlets: Vec<AtOutlet>,
    /// What the outlets answered; nothing where it was only shown.
    pub brought: Vec<Brought>,
    /// The number of the withdrawal, where it was made.
    pub recorded: Option<u64>,
    /// Whether it was to be done, and not only shown.
    pub write: bool,
    /// Whether what is not ours may be overwritten.
    pub overwrites: bool,
    /// Why it was not done, or not to its end.
    pub trouble: Option<Trouble>,
}

impl Withdrawn {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        if let Some(trouble) = &self.trouble {
            return Some(trouble.kind());
        }
        let is_unknown = self.outlets.iter().any(|outlet| outlet.reason().is_some());
        if is_unknown || !self.brought.iter().all(Brought::is_well) {
            return Some(Kind::Outside);
        }
        let is_blocked = self.outlets.iter().any(|outlet| outlet.blocking().next().is_some());
        (is_blocked && !self.write && !self.overwrites).then_some(Kind::Found)
    }

    /// Whether all went well.
    pub fn is_well(&self) -> bool {
        self.kind().is_none()
    }
}
