//! How old findings are.

use std::collections::BTreeSet;
use std::sync::Arc;

use cledger_core::findings::Finding;
use cledger_store::{GitPlace, last_before};
use jiff::SignedDuration;

use super::{ToCheck, new_since, texts};
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

/// Times by which ages are told: hours, what has begun within them, and what has begun before the last.
const TIMES: [(i64, &str); 4] = [
    (24, "within a day"),
    (7 * 24, "within a week"),
    (30 * 24, "within a month"),
    (365 * 24, "within a year"),
];

impl Ages {
    /// Looks back at revisions for how old the findings of a check are that covers these patterns.
    pub fn of(at: &Arc<Workplace>, asked: &ToCheck) -> Result<Self, Trouble> {
        let mut ages = Self::default();
        let (texts, today) = (texts(asked)?, at.day(asked.today.as_deref())?);
        let root = at.root()?;
        let place = GitPlace::Folder { folder: &root, trusted: at.named.is_some() };
        for (hours, within) in TIMES {
            let then = (at.clock)().checked_sub(SignedDuration::from_hours(hours));
            let commit = match then.map(|then| last_before(&place, &then.to_string())) {
                Ok(Ok(commit)) => commit,
                Ok(Err(error)) => {
                    ages.not_known = Some(error.to_string());
                    break;
                }
                Err(_) => None,
            };
            // Nothing is older than the history.
            let Some(commit) = commit else { break };
            match new_since(at, (asked, &texts), &commit, today) {
                Ok((checked, _)) => {
                    let new = checked.report.findings.iter().map(name).collect();
                    ages.within.push((within, new));
                }
                Err(trouble) => {
                    ages.not_known = Some(trouble.to_string());
                    break;
                }
            }
        }
        Ok(ages)
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
