//! How old findings are.

use std::collections::BTreeSet;
use std::sync::Arc;

use cledger_core::findings::Finding;
use cledger_store::{Scope, last_before};
use jiff::SignedDuration;

use super::{ToCheck, new_since, texts};
use crate::against::{Against, git_place};
use crate::opened::Opened;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// How old findings are, as the revisions at hand tell: each is as old as the last of these in which it was not there.
#[derive(Debug, Default)]
pub struct Ages {
    /// The findings that began within each time, the shortest first.
    within: Vec<(&'static str, BTreeSet<String>)>,
    /// Why no more is known, if so.
    pub not_known: Option<String>,
}

/// The times by which ages are told, in hours, and what is said of whatever began within each.
const TIMES: [(i64, &str); 4] = [
    (24, "within a day"),
    (7 * 24, "within a week"),
    (30 * 24, "within a month"),
    (365 * 24, "within a year"),
];

impl Ages {
    /// Looks back at revisions for how old the findings of a check are. Where that ends early, it says why.
    pub fn of(at: &Arc<Workplace>, asked: &ToCheck) -> Self {
        let mut ages = Self::default();
        if let Err(trouble) = ages.look_back(at, asked) {
            ages.not_known = Some(trouble.to_string());
        }
        ages
    }

    fn look_back(&mut self, at: &Arc<Workplace>, asked: &ToCheck) -> Result<(), Trouble> {
        let (texts, today) = (texts(asked)?, at.day(asked.today.as_deref())?);
        let opened = Opened::read(at, &Scope::Whole)?;
        let mut last: Option<String> = None;
        for (hours, within) in TIMES {
            // Nothing is older than the history, nor than time.
            let Ok(then) = (at.clock)().checked_sub(SignedDuration::from_hours(hours)) else { break };
            let Some(commit) = last_before(&git_place(&opened), &then.to_string())? else { break };
            let known = self.within.last().filter(|_| last.as_ref() == Some(&commit));
            let new = if let Some((_, known)) = known {
                known.clone()
            } else {
                let against = Against::of(&opened, &commit)?;
                let (checked, _) = new_since(&against, (asked, &texts), today)?;
                checked.report.findings.iter().map(name).collect()
            };
            self.within.push((within, new));
            last = Some(commit);
        }
        Ok(())
    }

    /// Since when a finding is there, in words; nothing where no revision tells.
    pub fn said(&self, finding: &Finding) -> Option<String> {
        let name = name(finding);
        let within = self.within.iter().find(|(_, new)| new.contains(&name));
        within.map(|(within, _)| (*within).to_owned()).or_else(|| self.longest())
    }

    /// All that can be said of when findings began, the youngest first.
    pub fn names(&self) -> Vec<String> {
        self.within.iter().map(|(within, _)| (*within).to_owned()).chain(self.longest()).collect()
    }

    /// What is said of what was there at the first of the revisions.
    fn longest(&self) -> Option<String> {
        let (last, _) = self.within.last()?;
        Some(last.replace("within", "longer ago than"))
    }
}

/// What tells a finding from others, as one text.
fn name(finding: &Finding) -> String {
    format!("{} {}", finding.kind(), finding.address)
}
