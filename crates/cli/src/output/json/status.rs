//! `status` for programs.

use cledger_core::model::Ledger;
use serde::Serialize;

use super::FORMAT;
use crate::commands::{InStage, Standing};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'s> {
    format: u32,
    units: Vec<UnitDocument<'s>>,
}

#[derive(Debug, Serialize)]
struct UnitDocument<'s> {
    unit: &'s str,
    stages: Vec<StageDocument<'s>>,
    waiting: Vec<&'s str>,
}

#[derive(Debug, Serialize)]
struct StageDocument<'s> {
    stage: &'s str,
    state: &'static str,
    number: Option<u64>,
    /// In seconds.
    age: Option<i64>,
}

pub(crate) fn document<'s>(ledger: &'s Ledger, standings: &'s [Standing]) -> Document<'s> {
    let stage = |(name, stage): (&'s str, &InStage)| {
        let (state, number, age) = match *stage {
            InStage::Nothing => ("nothing", None, None),
            InStage::Delivered(number, age) => ("delivered", Some(number), Some(age)),
            InStage::Withdrawn(age) => ("withdrawn", None, Some(age)),
        };
        StageDocument { stage: name, state, number, age }
    };
    let unit = |standing: &'s Standing| {
        let named = ledger.stages.iter().map(|stage| stage.name.as_str()).zip(&standing.stages);
        UnitDocument {
            unit: &standing.owner,
            stages: named.filter_map(|(name, it)| Some(stage((name, it.as_ref()?)))).collect(),
            waiting: standing.waiting.iter().map(|waiting| waiting.text.as_str()).collect(),
        }
    };
    Document { format: FORMAT, units: standings.iter().map(unit).collect() }
}
