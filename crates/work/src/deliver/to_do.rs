//! What is to be done first about units on their way, as commands.

use cledger_core::delivery::{InStage, Waiting};
use cledger_core::model::StageId;

use crate::deliver::at_outlets::{HowElse, Other};
use crate::deliver::status::{Status, There};
use crate::shown::counted;

/// Something to do, in one stage.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ToDo {
    /// The command.
    pub command: String,
    /// Why.
    pub because: String,
    /// Whether something is wrong, and not only to be done.
    pub is_trouble: bool,
}

/// What there is to do, most pressing first, and by stages in their order.
pub fn to_do(status: &Status) -> Vec<ToDo> {
    let mut all = Vec::new();
    for (owner, stage, there) in unfinished(status) {
        let of = format!("{owner}@{stage}");
        let (noun, command) = if there.is_withdrawal {
            ("withdrawal", format!("cledger withdraw {of}"))
        } else {
            ("delivery", format!("cledger deliver {of} --finish"))
        };
        let because = match there.what {
            InStage::NotKnown(number) => format!("nobody knows how far {noun} {number} came"),
            _ => format!("the last {noun} came to a part only"),
        };
        all.push(ToDo { command, because, is_trouble: true });
    }
    for waiting in Waiting::ALL {
        for stage in status.ledger.stage_ids() {
            all.extend(in_stage(status, waiting, stage));
        }
        if waiting == Waiting::Drifted {
            all.extend(others(status));
        }
    }
    all
}

/// What there is to do about what outlets have that is nothing of a unit's stage: to look at it.
fn others(status: &Status) -> impl Iterator<Item = ToDo> {
    let alike = status.others.chunk_by(|one, other| (&one.stage, one.how) == (&other.stage, other.how));
    alike.filter_map(|alike| {
        let Other { stage, how, owner } = alike.first()?;
        // A group has no outlets of its own.
        let of = status.ledger.stage_id(stage).map(|_| format!("@{stage} ")).unwrap_or_default();
        let what = match how {
            HowElse::LeftOver => "left over at an outlet",
            HowElse::Unknown => "at an outlet, and not in the ledger",
            HowElse::Drifted => "drifted",
            HowElse::NotKnown => "drift not known",
        };
        let whose = if alike.len() == 1 { owner.clone() } else { counted(alike.len(), "unit") };
        Some(ToDo {
            command: format!("cledger drift {of}--differing"),
            because: format!("{what}: {whose}"),
            is_trouble: !matches!(how, HowElse::NotKnown),
        })
    })
}

/// The units that were not brought, or taken off, whole.
fn unfinished(status: &Status) -> impl Iterator<Item = (&str, &str, &There)> {
    status.standings.iter().flat_map(|standing| {
        let named = status.ledger.stages.iter().map(|stage| stage.name.as_str()).zip(&standing.stages);
        let there =
            named.filter_map(|(stage, there)| Some((standing.owner.as_str(), stage, there.as_ref()?)));
        there.filter(|(.., there)| matches!(there.what, InStage::InPart(_) | InStage::NotKnown(_)))
    })
}

/// What there is to do about what waits in a stage.
fn in_stage(status: &Status, waiting: Waiting, stage: StageId) -> Option<ToDo> {
    let mut owners: Vec<&str> = Vec::new();
    let mut count = Some(0);
    for standing in &status.standings {
        let there = standing.stages[usize::from(stage.0)].as_ref();
        let waits = there.and_then(|there| there.waits.iter().find(|(what, _)| *what == waiting));
        if let Some((_, of_it)) = waits {
            owners.push(&standing.owner);
            count = count.zip(*of_it).map(|(count, of_it)| count + of_it);
        }
    }
    let of = match owners[..] {
        [] => return None,
        [one] => one,
        _ => "",
    };
    let name = &status.ledger.stage(stage).name;
    let command = match waiting {
        Waiting::Unreadable => "check".to_owned(),
        Waiting::Values => format!("check {of}@{name}"),
        Waiting::Drifted | Waiting::DriftNotKnown => format!("drift {of}@{name} --differing"),
        Waiting::NotInEffect | Waiting::Delivery => format!("deliver {of}@{name}"),
        Waiting::Chore => format!("chores {of}@{name}"),
        Waiting::Untested | Waiting::Promotion => {
            let before =
                status.ledger.stage(stage).after.first().map(|&before| &status.ledger.stage(before).name);
            match before {
                Some(before) => format!("promote {of}@{before} @{name}"),
                None => format!("history {of}@{name}"),
            }
        }
    };
    let what = match waiting {
        Waiting::Unreadable => "a file cannot be read",
        Waiting::Values => "values are missing or wrong",
        Waiting::Drifted => "drifted",
        Waiting::DriftNotKnown => "drift not known",
        Waiting::Untested => "not there as tested before",
        Waiting::NotInEffect => "brought, and not in effect",
        Waiting::Delivery => "not delivered yet",
        Waiting::Promotion => "newer in the stage before",
        Waiting::Chore => "to be done by hand",
    };
    let noun = match waiting {
        Waiting::Chore => "chore",
        Waiting::Drifted => "name",
        _ => "field",
    };
    let many = (owners.len() > 1).then(|| counted(owners.len(), "unit"));
    let counts: Vec<String> =
        count.filter(|count| *count > 0).map(|count| counted(count, noun)).into_iter().chain(many).collect();
    let because = if counts.is_empty() { what.to_owned() } else { format!("{what}: {}", counts.join(", ")) };
    Some(ToDo { command: format!("cledger {command}"), because, is_trouble: waiting.is_trouble() })
}
