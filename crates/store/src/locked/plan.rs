//! The plan of a change: which files, and what they hold before and after it.
//!
//! `plan.json` in `.cledger/change/` names them with the BLAKE3 hashes and lengths of both texts, which follow each
//! other in `texts` beside it: one file for all, since flushing and removing thousands takes a while. A plan is text
//! from somebody, even here: it may name only a ledger's own kinds of files, by plain relative paths, and texts whose
//! hashes are as it says.

use std::collections::BTreeSet;
use std::path::Path;

use serde::{Deserialize, Serialize};

use crate::folder::{FileError, Folder, Links};
use crate::kinds::is_of_ledger;
use crate::mode::Mode;
use crate::tree::{Changed, LARGEST_FILE, LARGEST_LEDGER};
use crate::write::WriteError;

/// The folder of a change, in the local state.
const CHANGE: &str = "change";

/// The plan's path, in the local state.
pub(super) const PLAN: &str = "change/plan.json";

/// The texts' path, in the local state.
const TEXTS: &str = "change/texts";

/// The version of the form.
const FORMAT: u32 = 3;

/// The most files that one change has.
const MOST_FILES: usize = 200_000;

/// The largest plan, in bytes.
const LARGEST_PLAN: u64 = 64 << 20;

/// The most bytes of texts: a whole ledger before, and after.
const LARGEST_TEXTS: u64 = 2 * LARGEST_LEDGER;

/// A change may be open, and nobody can tell from here.
#[derive(Debug, thiserror::Error)]
pub enum NoPlan {
    /// What lies there is no plan.
    #[error("`.cledger/change` holds what this program did not put there: {0}")]
    Bad(String),
    /// Another version of this program put it there.
    #[error(
        "a change of this ledger is open, and its plan is of version {0}, where this cledger knows {FORMAT}"
    )]
    Version(u32),
    /// The system does not let it be read: it may be a change that another user is making.
    #[error("`.cledger/change` cannot be read, and may be somebody else's change under way: {0}")]
    Unreadable(String),
}

impl NoPlan {
    /// What to do about it.
    pub fn help(&self) -> &'static str {
        match self {
            NoPlan::Bad(_) => "look at it, and remove the folder .cledger/change",
            NoPlan::Version(_) => "finish it with the cledger that began it: `cledger resume`",
            NoPlan::Unreadable(_) => "ask whoever owns it to finish it with `cledger resume`",
        }
    }
}

/// Why a file of a change is not read.
fn not_read(what: &str, error: &FileError) -> NoPlan {
    let told = format!("{what}: {error}");
    if matches!(error, FileError::Io(_)) { NoPlan::Unreadable(told) } else { NoPlan::Bad(told) }
}

/// What every version says first.
#[derive(Deserialize)]
struct Versioned {
    format: u32,
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
    /// Its text before; null where there was no file.
    before: Option<PlannedText>,
    /// Its text after; null where there is none any more.
    after: Option<PlannedText>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct PlannedText {
    /// Its hash: BLAKE3, in hexadecimal.
    hash: String,
    /// How long it is.
    bytes: u64,
}

impl PlannedText {
    fn of(text: &str) -> Self {
        Self { hash: hash(text), bytes: text.len() as u64 }
    }
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
        let texts = self.files.iter().flat_map(|file| file.before.iter().chain(&file.after));
        let texts: String = texts.map(String::as_str).collect();
        let file = |file: &OpenFile| {
            let [before, after] =
                [&file.before, &file.after].map(|text| text.as_deref().map(PlannedText::of));
            PlannedFile { path: file.path.clone(), before, after }
        };
        let plan = Plan { format: FORMAT, files: self.files.iter().map(file).collect() };
        // Texts and numbers always serialise.
        let plan = serde_json::to_vec(&plan).unwrap_or_default();
        for (path, content) in [(TEXTS, texts.as_bytes()), (PLAN, &plan)] {
            let written = state.write(Path::new(path), content, Mode::OwnerOnly);
            written.map_err(|source| WriteError::new(state.path().join(path), source))?;
        }
        Ok(())
    }

    /// The change that is open in this ledger, if one is; nothing is changed.
    pub(super) fn of(root: &Folder, state: &Folder) -> Result<Option<Self>, NoPlan> {
        let bad = NoPlan::Bad;
        let plan = match state.read(Path::new(PLAN), LARGEST_PLAN, Links::Refused) {
            Ok(plan) => plan,
            Err(error) if error.is_not_there() => return Ok(None),
            Err(error) => return Err(not_read("its plan", &error)),
        };
        let no_form = |_| bad("its plan is of no known form".to_owned());
        let Versioned { format } = serde_json::from_slice(&plan).map_err(no_form)?;
        if format != FORMAT {
            return Err(NoPlan::Version(format));
        }
        let plan: Plan = serde_json::from_slice(&plan).map_err(no_form)?;
        if plan.files.len() > MOST_FILES {
            return Err(bad(format!("its plan names more than {MOST_FILES} files")));
        }
        let has_texts = plan.files.iter().any(|file| file.before.is_some() || file.after.is_some());
        let texts = if has_texts { read_texts(state)? } else { String::new() };
        let mut texts = texts.as_str();
        let (mut files, mut named) = (Vec::new(), BTreeSet::new());
        for planned in plan.files {
            if !named.insert(planned.path.clone()) {
                return Err(bad(format!("its plan names `{}` twice", planned.path)));
            }
            if !is_of_ledger(&planned.path) {
                return Err(bad(format!("its plan names `{}`, which is no file of a ledger", planned.path)));
            }
            let mut next =
                |planned: Option<PlannedText>| planned.map(|it| taken(&mut texts, &it)).transpose();
            let (before, after) = (next(planned.before)?, next(planned.after)?);
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

/// The texts of a change, one after the other.
fn read_texts(state: &Folder) -> Result<String, NoPlan> {
    let texts = state.text(Path::new(TEXTS), LARGEST_TEXTS, Links::Refused);
    let texts = texts.map_err(|error| not_read(&format!("`{TEXTS}`"), &error))?;
    texts.ok_or_else(|| NoPlan::Bad(format!("`{TEXTS}` is not there")))
}

/// Takes the next of the texts, which is to be this one.
fn taken(texts: &mut &str, planned: &PlannedText) -> Result<String, NoPlan> {
    let length = usize::try_from(planned.bytes).ok().filter(|_| planned.bytes <= LARGEST_FILE);
    let parted = length.and_then(|length| texts.split_at_checked(length));
    match parted {
        Some((text, rest)) if hash(text) == planned.hash => {
            *texts = rest;
            Ok(text.to_owned())
        }
        _ => Err(NoPlan::Bad(format!("`{TEXTS}` is not what its plan says"))),
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
