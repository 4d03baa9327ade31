//! Which earlier deliveries are brought again: by a number, or as they were at a time.

use cledger_core::model::{Ledger, StageId, Subject};
use cledger_store::daybook::Daybook;
use jiff::Timestamp;

use crate::deliver::asked::ToDeliver;
use crate::deliver::bundle::{Numbers, Together};
use crate::deliver::recorded::stood_at;
use crate::opened::Opened;
use crate::trouble::Trouble;

/// The numbers of what is to be brought again, none where the ledger's word is brought. Tells of units that have nothing to
/// be brought again, and stay as they are.
pub(super) fn numbers(
    (opened, asked): (&Opened, &ToDeliver),
    book: &mut dyn Daybook,
    together: Option<&Together>,
    (subjects, stage): (&[Subject], StageId),
) -> Result<Numbers, Trouble> {
    let ledger = &opened.ledger;
    let owners: Vec<String> = subjects.iter().map(|&subject| ledger.owner(subject).to_string()).collect();
    match (asked.again, asked.again_at, together) {
        (Some(number), _, Some(together)) => together.numbers(opened, book, number, &owners),
        (Some(number), _, None) => Ok(owners.into_iter().map(|owner| (owner, number)).collect()),
        (None, Some(time), _) => at(opened, book, (&owners, stage), time),
        (None, None, _) => Ok(Numbers::new()),
    }
}

/// The last delivery of each unit that had come whole at a time.
fn at(
    opened: &Opened,
    book: &mut dyn Daybook,
    (owners, stage): (&[String], StageId),
    time: Timestamp,
) -> Result<Numbers, Trouble> {
    let name = opened.ledger.stage(stage).name.as_str();
    let (mut numbers, mut nothing) = (Numbers::new(), Vec::new());
    for owner in owners {
        match stood_at(book, owner, name, time)? {
            Some(number) => drop(numbers.insert(owner.clone(), number)),
            None => nothing.push(owner.as_str()),
        }
    }
    if numbers.is_empty() {
        let message = format!("nothing of this was delivered to `{name}` at {time}");
        return Err(
            Trouble::usage(message).help(format!("`cledger history @{name}` tells what was, and when"))
        );
    }
    if !nothing.is_empty() {
        opened.at.telling.notice(&format!(
            "Nothing was delivered of {} at {time}: what is there stays.",
            nothing.join(", ")
        ));
    }
    Ok(numbers)
}

/// The units that something is brought again of; all where the ledger's word is brought.
pub(super) fn meant(
    ledger: &Ledger,
    asked: &ToDeliver,
    numbers: &Numbers,
    subjects: Vec<Subject>,
) -> Vec<Subject> {
    if asked.again.is_none() && asked.again_at.is_none() {
        return subjects;
    }
    let is_there = |subject: &Subject| numbers.contains_key(&ledger.owner(*subject).to_string());
    subjects.into_iter().filter(is_there).collect()
}
