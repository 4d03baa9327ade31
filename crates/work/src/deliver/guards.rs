//! What a delivery is refused for: no reason, stages out of order, chores not done, somebody else meanwhile.

use cledger_core::delivery::{Event, drafted, first_not_done, lacking_before};
use cledger_core::model::Ledger;
use cledger_store::daybook::{Daybook, Record, Wanted};

use crate::daybook;
use crate::deliver::plan::Plan;
use crate::deliver::recorded::past;
use crate::trouble::Trouble;

/// The stages before it have had a delivery of the same contract, where the unit belongs to them.
pub(crate) fn order(book: &mut dyn Daybook, ledger: &Ledger, plan: &Plan) -> Result<(), Trouble> {
    if plan.again.is_some() {
        return Ok(());
    }
    let owner = &plan.owner;
    let lacking = lacking_before(ledger, plan.subject, plan.stage, |before| {
        let records = book.records(&Wanted::of(owner, ledger.stage(before).name.as_str()))?;
        let had_it = Event::Delivered { contract: &plan.contract };
        Ok::<bool, Trouble>(records.iter().any(|record| past(record).event == had_it))
    })?;
    let Some(before) = lacking else { return Ok(()) };
    let (name, stage) = (&ledger.stage(before).name, &ledger.stage(plan.stage).name);
    let message =
        format!("`{owner}` comes to `{stage}` after `{name}`, which has had no delivery of this contract");
    Err(Trouble::refused(message)
        .help(format!("deliver {owner}@{name} first, or add --skip-stages --why TEXT")))
}

/// What must be done before the first delivery is done.
pub(crate) fn chores(book: &mut dyn Daybook, ledger: &Ledger, plan: &Plan) -> Result<(), Trouble> {
    let (owner, stage) = (&plan.owner, ledger.stage(plan.stage).name.as_str());
    let records = book.records(&Wanted::of(owner, stage))?;
    let past: Vec<_> = records.iter().map(past).collect();
    let Some(chore) = first_not_done(ledger, plan.subject, plan.stage, &past) else { return Ok(()) };
    let message =
        format!("before the first delivery of `{owner}` to `{stage}` there is a chore: {}", chore.text);
    Err(Trouble::refused(message)
        .help(format!("do it, and then: cledger chores done {owner}@{stage} \"{}\"", chore.text)))
}

/// The reason that is given, or made of what changes.
pub(crate) fn reason(given: Option<&str>, draft: bool, plan: &Plan) -> Result<String, Trouble> {
    let drafted = || match drafted(&plan.changes()) {
        text if text.is_empty() => "The outlets had other values.".to_owned(),
        text => text,
    };
    match given {
        Some(why) => Ok(daybook::reason(why)?.to_owned()),
        None if draft => Ok(drafted()),
        None => {
            let message = format!("the delivery of `{}` has no reason", plan.owner);
            Err(Trouble::usage(message)
                .help(format!("add --why TEXT, or --draft-why, which would say: {}", drafted())))
        }
    }
}

/// Refuses to go on where somebody else has delivered or withdrawn since the last record was `seen`. It is asked
/// while the unit is held.
pub(crate) fn unchanged(
    book: &mut dyn Daybook,
    (owner, stage): (&str, &str),
    seen: Option<&Record>,
) -> Result<(), Trouble> {
    let place = |record: Option<&Record>| record.map(|record| record.meta.place);
    let last = book.records(&Wanted::last_of(owner, stage))?.pop();
    if place(last.as_ref()) == place(seen) {
        return Ok(());
    }
    let message = format!("somebody else has delivered `{owner}@{stage}` meanwhile");
    Err(Trouble::outside(message).help("look at what changes now, and try again"))
}
