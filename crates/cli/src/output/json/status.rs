//! `status` for programs.

use cledger_core::delivery::InStage;
use serde::Serialize;

use super::FORMAT;
use cledger_work::deliver::status::{OfBundle, Standing, Status, There};
use cledger_work::deliver::to_do::to_do;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'s> {
    format: u32,
    bundles: Vec<BundleDocument<'s>>,
    units: Vec<UnitDocument<'s>>,
    /// What is to be done, most pressing first.
    to_do: Vec<ToDoDocument>,
}

#[derive(Debug, Serialize)]
struct ToDoDocument {
    command: String,
    because: String,
}

#[derive(Debug, Serialize)]
struct BundleDocument<'s> {
    bundle: &'s str,
    stages: Vec<StageDocument<'s>>,
}

#[derive(Debug, Serialize)]
struct UnitDocument<'s> {
    unit: &'s str,
    stages: Vec<StageDocument<'s>>,
}

#[derive(Debug, Serialize)]
struct StageDocument<'s> {
    stage: &'s str,
    state: &'static str,
    number: Option<u64>,
    /// Whether that is the number of a withdrawal.
    withdrawal: bool,
    /// In seconds.
    age: Option<i64>,
    waits: Vec<WaitsDocument>,
}

#[derive(Debug, Serialize)]
struct WaitsDocument {
    what: &'static str,
    /// How many fields, names or chores, where these are counted.
    count: Option<usize>,
}

/// Of all units and bundles, or of what is to be done alone.
pub(crate) fn document(status: &Status, only_to_do: bool) -> Document<'_> {
    let to_do =
        to_do(status).into_iter().map(|one| ToDoDocument { command: one.command, because: one.because });
    let (bundles, standings) =
        if only_to_do { (&[][..], &[][..]) } else { (&status.bundles[..], &status.standings[..]) };
    Document {
        format: FORMAT,
        bundles: bundles.iter().map(|it| bundle(status, it)).collect(),
        units: standings.iter().map(|it| unit(status, it)).collect(),
        to_do: to_do.collect(),
    }
}

fn bundle<'s>(status: &'s Status, of: &'s OfBundle) -> BundleDocument<'s> {
    let named = status.ledger.stages.iter().map(|stage| stage.name.as_str()).zip(&of.stages);
    BundleDocument {
        bundle: &of.name,
        stages: named.filter_map(|(name, it)| Some(stage(name, it.as_ref()?))).collect(),
    }
}

fn unit<'s>(status: &'s Status, standing: &'s Standing) -> UnitDocument<'s> {
    let named = status.ledger.stages.iter().map(|stage| stage.name.as_str()).zip(&standing.stages);
    UnitDocument {
        unit: &standing.owner,
        stages: named.filter_map(|(name, it)| Some(stage(name, it.as_ref()?))).collect(),
    }
}

fn stage<'s>(name: &'s str, there: &There) -> StageDocument<'s> {
    let (state, number, age) = match there.what {
        InStage::Nothing => ("nothing", None, None),
        InStage::Delivered(number) => ("delivered", Some(number), Some(there.age)),
        InStage::InPart(number) => ("in-part", Some(number), Some(there.age)),
        InStage::ByHand(number) => ("by-hand", Some(number), Some(there.age)),
        InStage::NotKnown(number) => ("not-known", Some(number), Some(there.age)),
        InStage::Withdrawn => ("withdrawn", None, Some(there.age)),
    };
    let waits = there.waits.iter().map(|&(what, count)| WaitsDocument { what: what.name(), count }).collect();
    StageDocument { stage: name, state, number, withdrawal: there.is_withdrawal, age, waits }
}
