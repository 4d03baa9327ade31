//! The ledger now, and as it was at a git revision.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use cledger_core::findings::{Finding, Report};
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::source::Files;
use cledger_store::{
    Changed, GitPlace, Keys, Memory, Revision, Scope, Surroundings, Tree, Unreadable, complete,
    is_bare_repository, read, read_again, way_back,
};

use crate::change::concerned;
use crate::meanwhile::meanwhile;
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
    /// What leads from its files as they are back to what they were.
    back: Changed,
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
            let head = Revision::list(&place, "HEAD")?.files(&place, &Files::default())?;
            let now = read(&head, &Scope::Whole).map_err(|unreadable| at_that_time("HEAD", unreadable))?;
            let then = Revision::list(&place, revision)?.files(&place, &now.files)?;
            let (before, back) = earlier((&now, &head), &then, revision)?;
            let (then, today) = (Surroundings::closed(keys(&then)), Surroundings::closed(keys(&head)));
            return Ok(Self { folder, before: Arc::new(before), now: Arc::new(now), back, then, today });
        }
        let (root, trusted) = (at.root()?, at.named.is_some());
        // Whether the ledger is trusted is not known yet: where git wants to know, it is asked again.
        let early = || Revision::list(&GitPlace::Folder { folder: &root, trusted }, revision);
        let (listed, opened) = meanwhile(early, || Opened::read(at, &Scope::Whole));
        let opened = opened?;
        match listed {
            Ok(listed) => Self::of_listed(&opened, listed, revision),
            Err(_) => Self::of(&opened, revision),
        }
    }

    /// A ledger of which all was read, and as it was.
    pub(crate) fn of(opened: &Opened, revision: &str) -> Result<Self, Trouble> {
        Self::of_listed(opened, Revision::list(&git_place(opened), revision)?, revision)
    }

    fn of_listed(opened: &Opened, listed: Revision, revision: &str) -> Result<Self, Trouble> {
        let then = listed.files(&git_place(opened), &opened.ledger.files)?;
        let (before, back) = earlier((&opened.ledger, &opened.disk()), &then, revision)?;
        let keys = Keys::new(then, opened.at.identity.clone());
        Ok(Self {
            folder: opened.folder.clone(),
            before: Arc::new(before),
            now: opened.ledger.clone(),
            back,
            then: Surroundings::closed(keys),
            today: opened.unfetched(),
        })
    }

    /// The units that what changed can concern, and the stages, where it is in some alone; nothing where it can concern all.
    /// Whether a waiver is needed shows beside all findings.
    pub(crate) fn concerned(&self) -> Option<(BTreeSet<Name>, Option<BTreeSet<Name>>)> {
        if !self.now.waivers.is_empty() {
            return None;
        }
        let units = concerned::units(&self.now, &self.back)?;
        Some((units, concerned::stages(&self.now, &self.back)))
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

/// Where git looks for what an open ledger was.
pub(crate) fn git_place(opened: &Opened) -> GitPlace<'_> {
    let trusted = opened.at.named.is_some() || !opened.granted().is_unsaid();
    GitPlace::Folder { folder: &opened.folder, trusted }
}

/// The bare repository that is meant, if it is one.
fn bare(at: &Workplace) -> Option<PathBuf> {
    let folder = at.named.as_deref().unwrap_or(Path::new("."));
    (at.root().is_err() && is_bare_repository(folder)).then(|| folder.to_owned())
}

/// A ledger as it was, and what leads there from its files as they are; what these have in common is taken over.
fn earlier(now: (&Ledger, &dyn Tree), then: &Memory, revision: &str) -> Result<(Ledger, Changed), Trouble> {
    let back = way_back(now, then);
    let before = read_again(then, now.0, &back).and_then(complete);
    Ok((before.map_err(|unreadable| at_that_time(revision, unreadable))?, back))
}

fn at_that_time(revision: &str, unreadable: Unreadable) -> Trouble {
    Trouble::Before(revision.to_owned(), Box::new(unreadable))
}

/// Leaves in a report only what an earlier one has not; gives how many findings are gone.
pub(crate) fn keep_new(report: &mut Report, earlier: &Report) -> usize {
    let known: BTreeSet<_> = earlier.findings.iter().map(Finding::key).collect();
    let now: BTreeSet<_> = report.findings.iter().map(Finding::key).collect();
    let gone = known.difference(&now).count();
    report.findings.retain(|finding| !known.contains(&finding.key()));
    gone
}
