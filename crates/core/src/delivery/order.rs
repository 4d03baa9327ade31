//! In which order stages have a delivery.

use crate::model::{Ledger, StageId, Subject};

/// The first stage before this one to which the unit belongs and which has not `had` it; [`None`] if all have.
pub fn lacking_before<E>(
    ledger: &Ledger,
    subject: Subject,
    stage: StageId,
    mut had: impl FnMut(StageId) -> Result<bool, E>,
) -> Result<Option<StageId>, E> {
    let Subject::Unit(unit, instance) = subject else { return Ok(None) };
    for &before in &ledger.stage(stage).after {
        if ledger.unit(unit).belongs_to(before, instance) && !had(before)? {
            return Ok(Some(before));
        }
    }
    Ok(None)
}
