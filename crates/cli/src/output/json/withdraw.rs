//! `withdraw` for programs.

use cledger_work::deliver::withdraw::Withdrawn;

use super::outlet::{BroughtDocument, brought};

pub(crate) fn document(withdrawn: &Withdrawn) -> BroughtDocument<'_> {
    brought(&withdrawn.brought, &[], Vec::new())
}
