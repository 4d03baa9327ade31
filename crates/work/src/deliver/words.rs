//! The words for how units stand in stages.

use cledger_core::delivery::{InStage, Waiting};

use crate::deliver::status::There;

/// What is there, since when, and what waits.
pub fn whole(there: &There) -> String {
    let waits: Vec<String> = there.waits.iter().map(|(what, count)| waiting(*what, *count)).collect();
    if waits.is_empty() { state(there) } else { format!("{}: {}", state(there), waits.join(", ")) }
}

/// What is there, and since when.
pub fn state(there: &There) -> String {
    let age = age(there.age);
    let of = if there.is_withdrawal { "withdrawal " } else { "" };
    match there.what {
        InStage::Nothing => "none".to_owned(),
        InStage::Delivered(number) => format!("{number}, {age}"),
        InStage::InPart(number) => format!("{of}{number} in part, {age}"),
        InStage::ByHand(number) => format!("{number} by hand, {age}"),
        InStage::NotKnown(number) => format!("{of}{number} not known, {age}"),
        InStage::Withdrawn => format!("withdrawn, {age}"),
    }
}

/// What waits in a stage, with how much of it, where that is counted.
pub fn waiting(what: Waiting, count: Option<usize>) -> String {
    let counted = |word: &str| count.map_or_else(|| word.to_owned(), |count| format!("{count} {word}"));
    match what {
        Waiting::Unreadable => "unreadable".to_owned(),
        Waiting::Values => "wrong".to_owned(),
        Waiting::Drifted => counted("drifted"),
        Waiting::DriftNotKnown => "drift not known".to_owned(),
        Waiting::Untested => "untested".to_owned(),
        Waiting::NotInEffect => "not in effect".to_owned(),
        Waiting::Delivery => counted("waiting"),
        Waiting::Promotion => "to promote".to_owned(),
        Waiting::Chore => counted(if count == Some(1) { "chore" } else { "chores" }),
    }
}

/// An age in its greatest whole unit: minutes, hours, days.
fn age(seconds: i64) -> String {
    let minutes = seconds / 60;
    match (minutes / (24 * 60), minutes / 60) {
        (0, 0) => format!("{minutes}m"),
        (0, hours) => format!("{hours}h"),
        (days, _) => format!("{days}d"),
    }
}
