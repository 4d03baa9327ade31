//! The ledger now, and as it was at a git revision.

use std::path::{Path, PathBuf};

use cledger_core::findings::Report;
use cledger_core::model::Ledger;
use cledger_store::{
    GitError, GitPlace, Keys, Memory, Scope, Surroundings, at_revision, is_bare_repository, read,
};

use crate::app::App;
use crate::error::CliError;

/// A ledger at two times.
pub(crate) struct Against {
    pub(crate) root: PathBuf,
    pub(crate) before: Ledger,
    pub(crate) now: Ledger,
    then: Memory,
    /// In a bare repository, where there are no files, its `HEAD`.
    head: Option<Memory>,
}

impl Against {
    /// Reads both.
    pub(crate) fn open(app: &mut App<'_>, revision: &str) -> Result<Self, CliError> {
        let (root, now, head) = if let Some(folder) = bare(app) {
            app.console.notice("This repository is bare: its HEAD is compared.");
            let tree = at_revision(&GitPlace::Bare(&folder), "HEAD")?;
            let now = at(&tree, "HEAD")?;
            (folder, now, Some(tree))
        } else {
            let (root, now) = app.open(&Scope::Whole)?;
            (root, now, None)
        };
        let trusted = app.globals.ledger.is_some() || !app.granted().is_unsaid();
        let place = match head {
            Some(_) => GitPlace::Bare(&root),
            None => GitPlace::Folder { folder: &root, trusted },
        };
        let then = at_revision(&place, revision)?;
        let before = at(&then, revision)?;
        Ok(Self { root, before, now, then, head })
    }

    /// What cipher texts opened to; nothing is fetched.
    pub(crate) fn outside_before(&self, app: &App<'_>) -> Surroundings<'static> {
        Surroundings::closed(Keys::new(self.then.clone(), app.identity.clone()))
    }

    /// What cipher texts open to now; nothing is fetched.
    pub(crate) fn outside_now(&self, app: &App<'_>) -> Surroundings<'static> {
        let keys = match &self.head {
            Some(tree) => Keys::new(tree.clone(), app.identity.clone()),
            None => app.keys(&self.root),
        };
        Surroundings::closed(keys)
    }
}

/// The bare repository that is meant, if it is one.
fn bare(app: &App<'_>) -> Option<PathBuf> {
    let folder = app.globals.ledger.as_deref().unwrap_or(Path::new("."));
    (app.root().is_err() && is_bare_repository(folder)).then(|| folder.to_owned())
}

fn at(tree: &Memory, revision: &str) -> Result<Ledger, CliError> {
    read(tree, &Scope::Whole)
        .map_err(|unreadable| CliError::Before(revision.to_owned(), Box::new(unreadable)))
}

/// Leaves in a report only what an earlier one has not; gives how many findings are gone.
pub(crate) fn keep_new(report: &mut Report, earlier: &Report) -> usize {
    let key = |finding: &cledger_core::findings::Finding| (finding.code, finding.address.clone());
    let known: std::collections::BTreeSet<_> = earlier.findings.iter().map(key).collect();
    let now: std::collections::BTreeSet<_> = report.findings.iter().map(key).collect();
    report.findings.retain(|finding| !known.contains(&key(finding)));
    known.difference(&now).count()
}

impl From<GitError> for CliError {
    fn from(error: GitError) -> Self {
        let message = error.to_string();
        match error {
            GitError::NoGit(_) => Self::outside(message).help("install git, or leave out --against"),
            GitError::NoRepository(_) => {
                Self::usage(message).help("--against reads the ledger's history from git")
            }
            GitError::NoRevision(_) => Self::usage(message).help("name a branch, a tag or a commit"),
            GitError::NoLedger(_) => Self::usage(message).help("name a revision that has this ledger"),
            GitError::NotText(_) | GitError::TooLarge(_) | GitError::Refused(_) => Self::outside(message),
        }
    }
}
