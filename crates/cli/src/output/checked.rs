//! What a check comes to, in each of its forms.

use std::env;

use clap::ValueEnum;
use cledger_core::address::Pattern;
use cledger_core::findings::{Code, Severity};
use cledger_core::model::StageId;
use cledger_work::check::Checked;
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use super::console::Console;
use super::places::Places;
use super::shown::Shown;
use super::{json, junit, lines, sarif, text};

/// The forms of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Form {
    /// For people
    Text,
    /// One JSON document
    Json,
    /// SARIF 2.1.0, for what shows findings beside code
    Sarif,
    /// A JUnit report, for what shows the results of tests
    Junit,
    /// A line each, for editors: `file:line:column: severity: message [code]`
    Lines,
}

/// What was found, and how it is shown.
pub(crate) struct View<'c> {
    pub(crate) checked: &'c Checked,
    /// Whether what is waived is listed, too.
    pub(crate) waived: bool,
    /// From which severity on it fails.
    pub(crate) fails: Severity,
}

impl View<'_> {
    /// Whether a stage was checked.
    fn covers(&self, stage: usize) -> bool {
        let id = StageId(u16::try_from(stage).unwrap_or(u16::MAX));
        let name = self.checked.ledger.stage(id).name.as_str();
        let patterns = &self.checked.patterns;
        patterns.is_empty() || patterns.iter().any(|pattern| pattern.covers_stage(name))
    }

    /// Writes it in a form for programs.
    pub(crate) fn write(&self, form: Form, console: &mut Console) -> Result<(), Trouble> {
        let Checked { folder, ledger, report, .. } = self.checked;
        let here = env::current_dir().unwrap_or_default();
        let places = Places::new(ledger, folder, &here);
        match form {
            Form::Text | Form::Json => console.document(&self.document()),
            Form::Sarif => console.document(&sarif::document(&places, report)),
            Form::Lines => lines::print(console, &places, report),
            Form::Junit => {
                let text = junit::text(&places, report, self.fails, &|stage| self.covers(stage))
                    .map_err(|error| Trouble::outside(format!("the report cannot be written: {error}")))?;
                console.raw(&text);
            }
        }
        Ok(())
    }
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        let Checked { ledger, report, patterns, older, .. } = self.checked;
        // How units stand is counted over all their fields.
        let whole = older.is_none() && !patterns.iter().any(Pattern::has_entry);
        let covers = |stage: usize| self.covers(stage);
        let covers = whole.then_some(&covers as &dyn Fn(usize) -> bool);
        text::check::print(console, ledger, (report, *older), covers, self.waived);
    }

    fn document(&self) -> impl Serialize {
        json::check::document(&self.checked.ledger, &self.checked.report, self.checked.older)
    }

    fn kind(&self) -> Option<Kind> {
        if !self.checked.ledger.broken.is_empty() {
            return Some(Kind::Usage);
        }
        let mut findings = self.checked.report.findings.iter();
        findings.any(|finding| finding.severity >= self.fails).then_some(Kind::Found)
    }
}

/// What a code means.
pub(crate) struct Explanation(pub(crate) Code);

impl Shown for Explanation {
    fn print(&self, console: &mut Console) {
        text::check::explanation(console, self.0);
    }

    fn document(&self) -> impl Serialize {
        json::check::explanation(self.0)
    }
}
