//! What a delivery is refused for: no countersign, no reason, stages out of order, chores not done.

use cledger_core::model::{Ledger, Stage, When};
use cledger_store::daybook::{Daybook, Kind, Wanted};

use super::plan::{Plan, all_chores};
use crate::app::unit_of;
use crate::change::{CHANGES, ChangeOptions, countersigned};
use crate::error::CliError;
use crate::reality::made::contract_hash;

/// A production stage is countersigned.
pub(super) fn stage(stage: &Stage, options: &ChangeOptions) -> Result<(), CliError> {
    countersigned(&[stage], &options.countersign, CHANGES)
}

/// The stages before it have had a delivery of the same contract, where the unit belongs to them.
pub(super) fn order(
    book: &mut dyn Daybook,
    ledger: &Ledger,
    plan: &Plan,
    skip: bool,
) -> Result<(), CliError> {
    if skip || plan.again.is_some() {
        return Ok(());
    }
    let Some(unit) = unit_of(plan.subject) else { return Ok(()) };
    for &before in &ledger.stage(plan.stage).after {
        let instance = match plan.subject {
            cledger_core::model::Subject::Unit(_, instance) => instance,
            cledger_core::model::Subject::Shared => None,
        };
        if !ledger.unit(unit).belongs_to(before, instance) {
            continue;
        }
        let (owner, name) = (&plan.owner, ledger.stage(before).name.as_str());
        let mut records = book.records(&Wanted::of(owner, name))?.into_iter();
        let contract = contract_hash(ledger, plan.subject);
        let had_it = |record: &cledger_store::daybook::Record| {
            record.meta.kind == Kind::Delivered && record.meta.contract == contract
        };
        if !records.any(|record| had_it(&record)) {
            let stage = ledger.stage(plan.stage).name.as_str();
            let message = format!(
                "`{owner}` comes to `{stage}` after `{name}`, which has had no delivery of this contract"
            );
            return Err(CliError::refused(message)
                .help(format!("deliver {owner}@{name} first, or add --skip-stages --why TEXT")));
        }
    }
    Ok(())
}

/// What must be done before the first delivery is done.
pub(super) fn chores(book: &mut dyn Daybook, ledger: &Ledger, plan: &Plan) -> Result<(), CliError> {
    let (owner, stage) = (&plan.owner, ledger.stage(plan.stage).name.as_str());
    let records = book.records(&Wanted::of(owner, stage))?;
    if records.iter().any(|record| record.meta.kind == Kind::Delivered) {
        return Ok(());
    }
    let mut first = all_chores(ledger, plan.subject, plan.stage).filter(|it| it.when == When::FirstDelivery);
    let is_done = |text: &str| {
        let mut done = records.iter().filter(|record| record.meta.kind == Kind::ChoreDone);
        done.any(|record| record.meta.note.as_deref() == Some(text))
    };
    match first.find(|chore| !is_done(&chore.text)) {
        None => Ok(()),
        Some(chore) => {
            let message = format!(
                "before the first delivery of `{owner}` to `{stage}` there is a chore: {}",
                chore.text
            );
            Err(CliError::refused(message)
                .help(format!("do it, and then: cledger chores done {owner}@{stage} \"{}\"", chore.text)))
        }
    }
}
