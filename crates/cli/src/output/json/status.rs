//! `status` for programs.

use cledger_core::delivery::{InStage, Waiting};
use serde::Serialize;

use super::FORMAT;
use cledger_work::deliver::status::{OfBundle, Standing, Status, There};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'s> {
    format: u32,
    bundles: Vec<BundleDocument<'s>>,
    units: Vec<UnitDocument<'s>>,
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
    waiting: Vec<String>,
}

#[derive(Debug, Serialize)]
struct StageDocument<'s> {
    stage: &'s str,
    state: &'static str,
    number: Option<u64>,
    /// In seconds.
    age: Option<i64>,
}

pub(crate) fn document(status: &Status) -> Document<'_> {
    Document {
        format: FORMAT,
        bundles: status.bundles.iter().map(|it| bundle(status, it)).collect(),
        units: status.standings.iter().map(|it| unit(status, it)).collect(),
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
    let words = |(what, stages): (&Waiting, &Vec<String>)| format!("{} {}", what.words(), stages.join(", "));
    UnitDocument {
        unit: &standing.owner,
        stages: named.filter_map(|(name, it)| Some(stage(name, it.as_ref()?))).collect(),
        waiting: standing.waiting.iter().map(words).collect(),
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
    StageDocument { stage: name, state, number, age }
}
