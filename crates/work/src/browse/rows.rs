//! The fields that are looked through, and what outlets have: as they are shown.

use std::collections::BTreeMap;

use cledger_core::matrix::Row;
use cledger_core::model::{Class, StageId};
use cledger_core::resolve::Outside;

use crate::drift::Drift;
use crate::drift::words::{Told, told};
use crate::matrix::{Line, Matrix, ToTabulate, matrix};
use crate::opened::Opened;
use crate::shown::minute;
use crate::trouble::Trouble;

/// A stage, as it heads its column.
#[derive(Debug, Clone)]
pub struct StageHead {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub class: Class,
}

/// The fields that were asked for, with what each comes to in each stage.
#[derive(Debug)]
pub struct Rows {
    /// What the ledger is called.
    pub ledger: String,
    /// The stages, in the order of the ledger.
    pub stages: Vec<StageHead>,
    /// The fields.
    pub lines: Vec<Line>,
    /// For each field, whether stages differ in it.
    pub differs: Vec<bool>,
    /// For each field, whether it lacks a value somewhere.
    pub lacks: Vec<bool>,
    /// When it was read (UTC, to the minute).
    pub read: String,
}

impl Rows {
    /// Reads the fields that are asked for.
    pub(super) fn of(opened: &Opened, outside: &dyn Outside, asked: &ToTabulate) -> Result<Self, Trouble> {
        let Matrix { ledger, stages, rows } = matrix(opened, outside, asked)?;
        let head = |&stage: &StageId| {
            let stage = ledger.stage(stage);
            StageHead { name: stage.name.to_string(), class: stage.class }
        };
        Ok(Self {
            ledger: ledger.name.clone(),
            stages: stages.iter().map(head).collect(),
            differs: rows.iter().map(Row::differs).collect(),
            lacks: rows.iter().map(Row::is_missing_somewhere).collect(),
            lines: rows.iter().map(Line::of).collect(),
            read: minute(&opened.at.now()),
        })
    }

    /// The address of a field in a stage.
    pub fn address(&self, line: usize, stage: usize) -> Option<String> {
        let (line, stage) = (self.lines.get(line)?, self.stages.get(stage)?);
        Some(format!("{}/{}@{}", line.owner, line.entry, stage.name))
    }
}

/// What outlets have.
#[derive(Debug)]
pub struct Looked {
    /// The unit in a stage, or the stage, that was looked for.
    pub of: String,
    /// By `UNIT@STAGE` of all that was found: what is not as the ledger says, nothing where all is.
    pub units: BTreeMap<String, Vec<Told>>,
}

impl Looked {
    pub(super) fn of(address: String, drift: &Drift) -> Self {
        let mut units: BTreeMap<String, Vec<Told>> = BTreeMap::new();
        for unit in &drift.units {
            let outlet = unit.outlet.as_ref().map(|(outlet, _)| format!("{outlet}: ")).unwrap_or_default();
            let at_outlet = |told: Told| Told { what: format!("{outlet}{}", told.what), ..told };
            let name = format!("{}@{}", unit.owner, unit.stage);
            units.entry(name).or_default().extend(told(unit).into_iter().map(at_outlet));
        }
        Self { of: address, units }
    }
}
