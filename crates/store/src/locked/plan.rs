//! The plan of a change: which files, and what they hold before and after it.
//!
//! `plan.json` in `.cledger/change/` names them with the BLAKE3 hashes of both texts, which lie beside it as
//! `N.before` and `N.after`. A plan is text from somebody, even here: it may name only a ledger's own kinds
//! of files, by plain relative paths, and texts whose hashes are as it says.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::folder::{FileError, Folder, Links};
use crate::kinds::is_of_ledger;
use crate::mode::Mode;
use crate::tree::Changed;
use crate::tree::LARGEST_FILE;
use crate::write::WriteError;

/// The folder of a change, in the local state.
const CHANGE: &str = "change";

/// The plan's path, in the local state.
pub(super) const PLAN: &str = "change/plan.json";

/// The version of the form.
const FORMAT: u32 = 2;

/// The most files that one change has.
const MOST_FILES: usize = 200_000;

/// The largest plan, in bytes.
const LARGEST_PLAN: u64 = 64 << 20;

/// A change may be open, and nobody can tell from here.
#[derive(Debug, thiserror::Error)]
pub enum NoPlan {
    /// What lies there is no plan.
    #[error("`.cledger/change` holds what this program did not put there: {0}")]
    Bad(String),
    /// The system does not let it be read: it may be a change that another user is making.
    #[error("`.cledger/change` cannot be read, and may be somebody else's change under way: {0}")]
    Unreadable(String),
}

impl NoPlan {
    /// What to do about it.
    pub fn help(&self) -> &'static str {
        match self {
            NoPlan::Bad(_) => "look at it, and remove the folder .cledger/change",
            NoPlan::Unreadable(_) => "ask whoever owns it to finish it with `cledger resume`",
        }
    }
}

/// Why a file of a change is not read.
fn not_read(what: &str, error: &FileError) -> NoPlan {
    let told = format!("{what}: {error}");
    if matches!(error, FileError::Io(_)) { NoPlan::Unreadable(told) } else { NoPlan::Bad(told) }
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Plan {
    format: u32,
    files: Vec<PlannedFile>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct PlannedFile {
    path: String,
    /// The hash of its text before; null where there was no file.
    before: Option<String>,
    /// That of its text after; null where there is none any more.
    after: Option<String>,
}

/// How a file of an open change stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Since {
    /// As it was before the change.
    AsBefore,
    /// As it is after it.
    AsAfter,
    /// As neither: somebody has edited it since.
    Edited,
}

/// A file of an open change.
#[derive(Debug, Clone)]
pub struct OpenFile {
    /// Its path, from the ledger's folder.
    pub path: String,
    /// How it stands now.
    pub since: Since,
    pub(super) before: Option<String>,
    pub(super) after: Option<String>,
}

/// A change that is being made, or was interrupted.
#[derive(Debug, Clone)]
pub struct OpenChange {
    /// Its files.
    pub files: Vec<OpenFile>,
}

fn hash(text: &str) -> String {
    blake3::hash(text.as_bytes()).to_hex().to_string()
}

impl OpenChange {
    /// A change that is about to be made.
    pub(super) fn new(root: &Folder, changed: &Changed) -> Result<Self, WriteError> {
        let file = |(path, after): (&String, &Option<String>)| {
            let before = root.text(Path::new(path), LARGEST_FILE, Links::Refused);
            let wrong = |error: FileError| {
                WriteError::new(root.path().join(path), std::io::Error::other(error.to_string()))
            };
            let (before, after) = (before.map_err(wrong)?, after.clone());
            Ok(OpenFile { path: path.clone(), since: Since::AsBefore, before, after })
        };
        Ok(Self { files: changed.iter().map(file).collect::<Result<_, _>>()? })
    }

    /// Puts it down, the plan last: from then on it counts.
    pub(super) fn put_down(&self, state: &Folder) -> Result<(), WriteError> {
        let write = |relative: &Path, content: &[u8]| {
            let written = state.write(relative, content, Mode::OwnerOnly);
            written.map_err(|source| WriteError::new(state.path().join(relative), source))
        };
        let mut files = Vec::new();
        for (number, file) in self.files.iter().enumerate() {
            for (text, which) in [(&file.before, "before"), (&file.after, "after")] {
                if let Some(text) = text {
                    write(&text_path(number, which), text.as_bytes())?;
                }
            }
            let (before, after) = (file.before.as_deref().map(hash), file.after.as_deref().map(hash));
            files.push(PlannedFile { path: file.path.clone(), before, after });
        }
        // Texts and numbers always serialise.
        let plan = serde_json::to_vec(&Plan { format: FORMAT, files }).unwrap_or_default();
        write(Path::new(PLAN), &plan).map(|_| ())
    }

    /// The change that is open in this ledger, if one is; nothing is changed.
    pub(super) fn of(root: &Folder, state: &Folder) -> Result<Option<Self>, NoPlan> {
        let bad = NoPlan::Bad;
        let plan = match state.read(Path::new(PLAN), LARGEST_PLAN, Links::Refused) {
            Ok(plan) => plan,
            Err(error) if error.is_not_there() => return Ok(None),
            Err(error) => return Err(not_read("its plan", &error)),
        };
        let plan: Plan =
            serde_json::from_slice(&plan).map_err(|_| bad("its plan is of no known form".to_owned()))?;
        if plan.format != FORMAT {
            return Err(bad(format!(
                "its plan is of version {}, and this cledger knows {FORMAT}",
                plan.format
            )));
        }
        if plan.files.len() > MOST_FILES {
            return Err(bad(format!("its plan names more than {MOST_FILES} files")));
        }
        let (mut files, mut named) = (Vec::new(), BTreeSet::new());
        for (number, planned) in plan.files.into_iter().enumerate() {
            if !named.insert(planned.path.clone()) {
                return Err(bad(format!("its plan names `{}` twice", planned.path)));
            }
            if !is_of_ledger(&planned.path) {
                return Err(bad(format!("its plan names `{}`, which is no file of a ledger", planned.path)));
            }
            let text = |hash: &Option<String>, which: &str| match hash {
                Some(hash) => planned_text(state, number, which, hash).map(Some),
                None => Ok(None),
            };
            let (before, after) = (text(&planned.before, "before")?, text(&planned.after, "after")?);
            let now = root.text(Path::new(&planned.path), LARGEST_FILE, Links::Refused);
            let since = match &now {
                Ok(now) if *now == after => Since::AsAfter,
                Ok(now) if *now == before => Since::AsBefore,
                // A link that somebody put there is an edit, too.
                _ => Since::Edited,
            };
            files.push(OpenFile { path: planned.path, since, before, after });
        }
        Ok(Some(Self { files }))
    }

    /// The files that somebody has edited since.
    pub fn edited(&self) -> Vec<String> {
        let edited = self.files.iter().filter(|file| file.since == Since::Edited);
        edited.map(|file| file.path.clone()).collect()
    }

    /// The texts after it, all but those that were edited since.
    pub(super) fn after(&self) -> Changed {
        let kept = self.files.iter().filter(|file| file.since != Since::Edited);
        kept.map(|file| (file.path.clone(), file.after.clone())).collect()
    }
}

/// Where a text of a change lies.
fn text_path(number: usize, which: &str) -> PathBuf {
    Path::new(CHANGE).join(format!("{number}.{which}"))
}

fn planned_text(state: &Folder, number: usize, which: &str, wanted: &str) -> Result<String, NoPlan> {
    let path = text_path(number, which);
    let shown = path.display().to_string();
    let text = state
        .text(&path, LARGEST_FILE, Links::Refused)
        .map_err(|error| not_read(&format!("`{shown}`"), &error))?
        .ok_or_else(|| NoPlan::Bad(format!("`{shown}` is not there")))?;
    if hash(&text) == wanted {
        Ok(text)
    } else {
        Err(NoPlan::Bad(format!("`{shown}` is not what its plan says")))
    }
}

/// Takes away what lies in the folder of a change, the plan first: without it what is left counts for nothing.
pub(super) fn clear_up(state: &Folder) -> Result<(), WriteError> {
    let wrong = |path: &Path| {
        let path = state.path().join(path);
        move |source| WriteError::new(path, source)
    };
    let folder = Path::new(CHANGE);
    state.remove(Path::new(PLAN)).map_err(wrong(Path::new(PLAN)))?;
    let names = state.names(folder, Links::Refused);
    let names = names.map_err(|error| wrong(folder)(std::io::Error::other(error.to_string())))?;
    for name in names.unwrap_or_default() {
        let path = folder.join(name);
        state.remove(&path).map_err(wrong(&path))?;
    }
    state.remove_empty(folder);
    Ok(())
}
