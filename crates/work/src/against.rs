//! The ledger now, and as it was at a git revision.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use cledger_core::findings::{Finding, Report};
use cledger_core::model::Ledger;
use cledger_store::{GitPlace, Keys, Memory, Scope, Surroundings, at_revision, is_bare_repository, read};

use crate::opened::Opened;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// A ledger at two times.
pub struct Against {
    /// Its folder, or the bare repository that it is in.
    pub folder: PathBuf,
    /// As it was.
    pub before: Arc<Ledger>,
    /// As it is.
    pub now: Arc<Ledger>,
    then: Surroundings<'static>,
    today: Surroundings<'static>,
}

impl Against {
    /// Reads both.
    pub fn read(at: &Arc<Workplace>, revision: &str) -> Result<Self, Trouble> {
        let keys = |tree: &Memory| Keys::new(tree.clone(), at.identity.clone());
        if let Some(folder) = bare(at) {
            at.telling.notice("This repository is bare: its HEAD is compared.");
            let place = GitPlace::Bare(&folder);
            let head = at_revision(&place, "HEAD")?;
            let now = Arc::new(as_of(&head, "HEAD")?);
            let then = at_revision(&place, revision)?;
            let before = Arc::new(as_of(&then, revision)?);
            let (then, today) = (Surroundings::closed(keys(&then)), Surroundings::closed(keys(&head)));
            return Ok(Self { folder, before, now, then, today });
        }
        let opened = Opened::read(at, &Scope::Whole)?;
        let trusted = at.named.is_some() || !opened.granted().is_unsaid();
        let place = GitPlace::Folder { folder: &opened.folder, trusted };
        let then = at_revision(&place, revision)?;
        let before = Arc::new(as_of(&then, revision)?);
        let today = opened.unfetched();
        let then = Surroundings::closed(keys(&then));
        Ok(Self { before, now: opened.ledger, then, today, folder: opened.folder })
    }

    /// What cipher texts opened to; nothing is fetched.
    pub fn outside_before(&self) -> &Surroundings<'static> {
        &self.then
    }

    /// What cipher texts open to now; nothing is fetched.
    pub fn outside_now(&self) -> &Surroundings<'static> {
        &self.today
    }
}

/// The bare repository that is meant, if it is one.
fn bare(at: &Workplace) -> Option<PathBuf> {
    let folder = at.named.as_deref().unwrap_or(Path::new("."));
    (at.root().is_err() && is_bare_repository(folder)).then(|| folder.to_owned())
}

fn as_of(tree: &Memory, revision: &str) -> Result<Ledger, Trouble> {
    read(tree, &Scope::Whole).map_err(|unreadable| Trouble::Before(revision.to_owned(), Box::new(unreadable)))
}

/// Leaves in a report only what an earlier one has not; gives how many findings are gone.
pub(crate) fn keep_new(report: &mut Report, earlier: &Report) -> usize {
    let key = |finding: &Finding| (finding.kind(), finding.address.clone());
    let known: std::collections::BTreeSet<_> = earlier.findings.iter().map(key).collect();
    let now: std::collections::BTreeSet<_> = report.findings.iter().map(key).collect();
    report.findings.retain(|finding| !known.contains(&key(finding)));
    known.difference(&now).count()
}
