//! The fields that are looked through, what is wrong with them, and what outlets have: as they are shown.

use std::collections::BTreeMap;

use cledger_core::findings::{Finding, Severity};
use cledger_core::matrix::Row;
use cledger_core::model::{Class, StageId};
use cledger_core::resolve::Outside;

use crate::check::Checked;
use crate::drift::Drift;
use crate::drift::words::{Told, told};
use crate::matrix::{Line, Matrix, ToTabulate, matrix};
use crate::opened::Opened;
use crate::shown::{Tone, counted, minute};
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

/// What is missing or wrong, by what it is about.
#[derive(Debug, Default)]
pub struct Findings {
    by_address: BTreeMap<String, Vec<(String, Tone)>>,
    /// How many there are, in words.
    pub counts: String,
}

impl Findings {
    pub(super) fn of(checked: &Checked) -> Self {
        let mut by_address: BTreeMap<String, Vec<(String, Tone)>> = BTreeMap::new();
        for finding in &checked.report.findings {
            by_address.entry(finding.address.clone()).or_default().push(line(finding));
        }
        let (errors, warnings) =
            (checked.report.count(Severity::Error), checked.report.count(Severity::Warning));
        let counts = format!("{}, {}", counted(errors, "error"), counted(warnings, "warning"));
        Self { by_address, counts }
    }

    /// What is said of a field in a stage, or of its entry there.
    pub fn at(&self, owner: &str, entry: &str, stage: &str) -> impl Iterator<Item = &(String, Tone)> {
        let whole = entry.split_once('.').map(|(entry, _)| format!("{owner}/{entry}@{stage}"));
        let addresses = [Some(format!("{owner}/{entry}@{stage}")), whole];
        addresses.into_iter().flatten().filter_map(|address| self.by_address.get(&address)).flatten()
    }
}

fn line(finding: &Finding) -> (String, Tone) {
    let (word, tone) = match finding.severity {
        Severity::Error => ("error", Tone::Bad),
        Severity::Warning => ("warning", Tone::Doubtful),
    };
    (format!("{word} {}: {}", finding.kind(), finding.message), tone)
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
