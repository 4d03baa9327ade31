//! A ledger as it was at a revision, read through git itself.

mod started;

use std::collections::{BTreeMap, BTreeSet};
use std::io::{BufRead as _, BufReader, Read as _};
use std::path::{Path, PathBuf};
use std::process::Command;

use cledger_core::source::Files;
use rayon::iter::Either;
use rayon::prelude::*;
use rustc_hash::FxHashMap;
use sha1::Sha1;
use sha2::{Digest as _, Sha256};

use crate::folder::{Folder, Links};
use crate::keys::hex;
use crate::kinds::{FILES, FOLDERS, is_of_ledger};
use crate::tree::{LARGEST_FILE, LARGEST_LEDGER, Memory};
use started::{Started, git};

/// Why a revision cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum GitError {
    /// There is no git.
    #[error("git is needed to read a revision, and cannot be started: {0}")]
    NoGit(std::io::Error),
    /// The folder is in no repository.
    #[error("`{0}` is in no git repository")]
    NoRepository(String),
    /// There is no such revision.
    #[error("there is no revision `{0}`")]
    NoRevision(String),
    /// The folder is not there in that revision.
    #[error("there is no ledger at `{0}`")]
    NoLedger(String),
    /// A file is not text.
    #[error("`{0}` is not UTF-8 text at that revision")]
    NotText(String),
    /// A file is larger than any file of a ledger, or the ledger is too large with it.
    #[error("`{0}` is too large at that revision: a file of a ledger has 8 MiB at most, a ledger 256 MiB")]
    TooLarge(String),
    /// Git refused, with its own words.
    #[error("git refuses: {0}")]
    Refused(String),
}

/// The longest line before an object, in bytes.
const LONGEST_HEAD: u64 = 4096;

/// The largest object that is read, in bytes.
const LARGEST_OBJECT: u64 = LARGEST_FILE;

/// Where git looks.
#[derive(Debug, Clone, Copy)]
pub enum Place<'p> {
    /// In the repository that a folder is in.
    Folder {
        /// The folder.
        folder: &'p Path,
        /// Whether somebody named it or said that it is trusted, so that it may belong to another user.
        trusted: bool,
    },
    /// In this bare repository, which was named.
    Bare(&'p Path),
}

impl<'p> Place<'p> {
    fn path(&self) -> &'p Path {
        match self {
            Place::Folder { folder, .. } | Place::Bare(folder) => folder,
        }
    }
}

/// The top of the repository that a folder is in, by its `.git`.
fn top_of(folder: &Path) -> Option<PathBuf> {
    let folder = folder.canonicalize().ok()?;
    folder.ancestors().find(|above| above.join(".git").symlink_metadata().is_ok()).map(Path::to_owned)
}

/// Runs git and gives what it prints; `None` if it ends with a failure.
fn asked(command: Command) -> Result<Option<Vec<u8>>, GitError> {
    let started = Started::new(command, Vec::new()).map_err(GitError::NoGit)?;
    started.all().map_err(|error| GitError::Refused(error.to_string()))
}

/// Whether a folder is a bare repository, one without files to work on: it looks like one, and git takes it
/// for one.
pub fn is_bare_repository(folder: &Path) -> bool {
    let looks = ["HEAD", "objects", "refs"].iter().all(|name| folder.join(name).exists());
    if !looks || folder.join(crate::MANIFEST).exists() {
        return false;
    }
    let mut command = git(&Place::Bare(folder));
    command.args(["rev-parse", "--is-bare-repository"]);
    matches!(asked(command), Ok(Some(answer)) if answer.starts_with(b"true"))
}

/// Whether something below a folder is in its last commit.
pub(crate) fn is_committed(folder: &Path, name: &str) -> bool {
    if top_of(folder).is_none() {
        return false;
    }
    let mut command = git(&Place::Folder { folder, trusted: true });
    command.args(["ls-tree", "HEAD", "--", name]);
    // Where git cannot tell, it cannot have brought it here either.
    matches!(asked(command), Ok(Some(listed)) if !listed.is_empty())
}

/// The top of the repository that would take this path in, and the path from there; `None` where it is in none,
/// or ignored there.
pub fn taken_in(path: &Path) -> Option<(PathBuf, PathBuf)> {
    let path = path.canonicalize().ok()?;
    let top = top_of(&path)?;
    let mut command = git(&Place::Folder { folder: &top, trusted: true });
    // It takes no such pathspecs, and an absolute path is none of another kind.
    command.env_remove("GIT_LITERAL_PATHSPECS");
    command.args(["check-ignore", "--quiet", "--no-index", "--"]).arg(&path);
    // 0 is ignored, 1 is not; anything else says nothing.
    let answer = Started::new(command, Vec::new()).and_then(|mut started| started.status()).ok()?;
    let below = path.strip_prefix(&top).ok()?.to_owned();
    (answer == Some(1)).then_some((top, below))
}

/// The commit that a ledger's folder is at, and whether a file of the ledger is not as it is there; `None`
/// outside of git. No filter of the repository is run: what differs only by its line ends is the same.
pub fn commit_of(folder: &Path) -> Option<(String, bool)> {
    top_of(folder)?;
    let place = Place::Folder { folder, trusted: true };
    let mut command = git(&place);
    command.args(["rev-parse", "--verify", "--quiet", "HEAD"]);
    let commit = String::from_utf8_lossy(&asked(command).ok()??).trim().to_owned();
    let mut known: BTreeMap<String, String> = BTreeMap::new();
    for (path, object) in blobs(&place, &commit).ok()? {
        if is_of_ledger(&path) {
            known.insert(path, object);
        }
    }
    Some((commit, differs(folder, known)))
}

/// Whether a commit is the one that a ledger's folder is at, or one before it; `None` outside of git. One that is not
/// known here is not.
pub fn is_behind_us(folder: &Path, commit: &str) -> Option<bool> {
    top_of(folder)?;
    let mut command = git(&Place::Folder { folder, trusted: true });
    command.args(["merge-base", "--is-ancestor", commit, "HEAD"]);
    let answer = Started::new(command, Vec::new()).and_then(|mut started| started.status()).ok()?;
    Some(answer == Some(0))
}

/// Whether the files of a ledger are not these objects.
fn differs(folder: &Path, mut known: BTreeMap<String, String>) -> bool {
    let Ok(root) = Folder::open(folder) else { return true };
    let mut open: Vec<String> = FILES.iter().chain(&FOLDERS).map(|name| (*name).to_owned()).collect();
    // CSV files elsewhere count where they are known: any other may be of something else.
    open.extend(
        known.keys().filter(|path| !FOLDERS.iter().any(|top| path.starts_with(&format!("{top}/")))).cloned(),
    );
    let mut seen = BTreeSet::new();
    while let Some(path) = open.pop() {
        if !seen.insert(path.clone()) {
            continue;
        }
        match root.names(Path::new(&path), Links::Refused) {
            Ok(Some(names)) => {
                open.extend(names.into_iter().map(|name| format!("{path}/{name}")));
                continue;
            }
            Ok(None) => {}
            Err(_) => return true,
        }
        match (root.read(Path::new(&path), LARGEST_FILE, Links::Refused), known.remove(&path)) {
            (Ok(bytes), Some(object)) if is_object(&bytes, &object) => {}
            (Err(error), None) if error.is_not_there() => {}
            (Ok(_), None) if !is_of_ledger(&path) => {}
            _ => return true,
        }
    }
    !known.is_empty()
}

/// Whether these bytes are the blob with this name, as they are or with the line ends that git keeps.
fn is_object(bytes: &[u8], object: &str) -> bool {
    let is_crlf = || memchr::memmem::find(bytes, b"\r\n").is_some();
    let as_kept = || String::from_utf8_lossy(bytes).replace("\r\n", "\n");
    is_named(bytes, object) || is_crlf() && is_named(as_kept().as_bytes(), object)
}

/// Whether these bytes are the blob with this name: SHA-1 or SHA-256 of `blob SIZE`, a NUL and the bytes.
fn is_named(bytes: &[u8], object: &str) -> bool {
    let head = format!("blob {}\0", bytes.len());
    let name = if object.len() == 40 {
        hex(&Sha1::new().chain_update(head).chain_update(bytes).finalize())
    } else {
        hex(&Sha256::new().chain_update(head).chain_update(bytes).finalize())
    };
    name == object
}

/// The files that a ledger has in a revision, still without their texts.
#[derive(Debug)]
pub struct Revision(ByPath);

impl Revision {
    /// Lists them: `named` is a branch, tag or commit, as git names it.
    pub fn list(place: &Place<'_>, named: &str) -> Result<Self, GitError> {
        let mut command = git(place);
        let commit = format!("{named}^{{commit}}");
        command.args(["rev-parse", "--verify", "--quiet", "--end-of-options", &commit]);
        let Some(commit) = asked(command)? else {
            let mut command = git(place);
            command.args(["rev-parse", "--git-dir"]);
            return Err(match asked(command)? {
                None => GitError::NoRepository(place.path().display().to_string()),
                Some(_) => GitError::NoRevision(named.to_owned()),
            });
        };
        let commit = String::from_utf8_lossy(&commit).trim().to_owned();
        let blobs = blobs(place, &commit)?;
        let folder_of_ledger =
            folder_of_ledger(&blobs).ok_or_else(|| GitError::NoLedger(named.to_owned()))?;
        let within = |(path, object): (String, String)| {
            let path = path.strip_prefix(&folder_of_ledger)?;
            is_of_ledger(path).then(|| (path.to_owned(), object))
        };
        Ok(Self(blobs.into_iter().filter_map(within).collect()))
    }

    /// The files with their texts. Those of `known` files that are the same there are taken from these.
    pub fn files(self, place: &Place<'_>, known: &Files) -> Result<Memory, GitError> {
        let (mut files, wanted) = taken_over(known, self.0);
        let bytes = files.iter().map(|(_, text)| text.len()).sum();
        files.extend(contents(place, &wanted, bytes)?);
        Ok(files.into_iter().collect())
    }
}

/// The last commit of this line of history before a time (RFC 3339); `None` where it begins later, and outside of git.
pub fn last_before(place: &Place<'_>, time: &str) -> Result<Option<String>, GitError> {
    let mut command = git(place);
    command.args(["rev-list", "--max-count=1", "--first-parent"]);
    command.arg(format!("--before={time}")).args(["HEAD", "--"]);
    let commit = asked(command)?.map(|answer| String::from_utf8_lossy(&answer).trim().to_owned());
    Ok(commit.filter(|commit| !commit.is_empty()))
}

/// Texts, or the names of objects, by path.
type ByPath = Vec<(String, String)>;

/// The texts of known files that are these objects, by path, and the others of these.
fn taken_over(known: &Files, wanted: ByPath) -> (ByPath, ByPath) {
    let known: FxHashMap<&str, &str> =
        known.0.iter().map(|file| (file.path.as_str(), file.text.as_str())).collect();
    let same = |(path, object): (String, String)| match known.get(path.as_str()) {
        Some(text) if is_named(text.as_bytes(), &object) => Either::Left((path, (*text).to_owned())),
        _ => Either::Right((path, object)),
    };
    wanted.into_par_iter().partition_map(same)
}

/// The files of a commit in the folder that git looks from, with the names of their objects.
fn blobs(place: &Place<'_>, commit: &str) -> Result<ByPath, GitError> {
    let mut command = git(place);
    command.args(["ls-tree", "-r", "-z", commit]);
    let listed = asked(command)?.ok_or_else(|| GitError::NoLedger(commit.to_owned()))?;
    let mut blobs = Vec::new();
    for entry in listed.split(|byte| *byte == 0).filter(|entry| !entry.is_empty()) {
        // `mode type object\tpath`
        let entry = String::from_utf8_lossy(entry);
        let Some((about, path)) = entry.split_once('\t') else { continue };
        // A link has its target as its text, and is no file.
        if let [mode, "blob", object] = about.split(' ').collect::<Vec<_>>()[..]
            && mode != LINK
        {
            blobs.push((path.to_owned(), object.to_owned()));
        }
    }
    Ok(blobs)
}

/// The mode of a link in git's trees.
const LINK: &str = "120000";

/// Where the ledger is among these files: at the top, or in the only folder that has one, as in a
/// bare repository, in which nobody can stand in that folder.
fn folder_of_ledger(blobs: &[(String, String)]) -> Option<String> {
    let inside = format!("/{}", crate::MANIFEST);
    let mut folders = Vec::new();
    for (path, _) in blobs {
        if path == crate::MANIFEST {
            return Some(String::new());
        }
        folders.extend(path.strip_suffix(&inside).map(|folder| format!("{folder}/")));
    }
    match &folders[..] {
        [only] => Some(only.clone()),
        _ => None,
    }
}

/// What these objects hold, in one go, beside so many bytes that are there.
fn contents(place: &Place<'_>, wanted: &[(String, String)], mut total: usize) -> Result<ByPath, GitError> {
    if wanted.is_empty() {
        return Ok(Vec::new());
    }
    let mut command = git(place);
    command.args(["cat-file", "--batch"]);
    let refused = |what: &str| GitError::Refused(what.to_owned());
    let objects: Vec<&str> = wanted.iter().map(|(_, object)| object.as_str()).collect();
    let asked = (objects.join("\n") + "\n").into_bytes();
    let mut output = BufReader::new(Started::new(command, asked).map_err(GitError::NoGit)?);
    let mut files = Vec::with_capacity(wanted.len());
    for (path, _) in wanted {
        let mut head = String::new();
        let read = (&mut output).take(LONGEST_HEAD).read_line(&mut head);
        read.map_err(|error| refused(&error.to_string()))?;
        let size = head.trim_end().rsplit(' ').next().and_then(|size| size.parse::<usize>().ok());
        let size = size.ok_or_else(|| match head.trim_end() {
            "" => refused("it stopped before it had said all"),
            head => refused(head),
        })?;
        total = total.saturating_add(size);
        if size as u64 > LARGEST_OBJECT || total as u64 > LARGEST_LEDGER {
            return Err(GitError::TooLarge(path.clone()));
        }
        let mut content = vec![0; size + 1];
        output.read_exact(&mut content).map_err(|error| refused(&error.to_string()))?;
        content.pop();
        let text = String::from_utf8(content).map_err(|_| GitError::NotText(path.clone()))?;
        files.push((path.clone(), text));
    }
    Ok(files)
}
