//! A ledger as it was at a revision, read through git itself.

use std::collections::BTreeMap;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::path::Path;
use std::process::{Command, Stdio};
use std::thread;

use crate::tree::Memory;

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
    /// Git refused, with its own words.
    #[error("git refuses: {0}")]
    Refused(String),
}

fn git(folder: &Path) -> Command {
    let mut command = Command::new("git");
    command.arg("-C").arg(folder).stdin(Stdio::null());
    command
}

/// Runs git and gives what it prints; `None` if it ends with a failure.
fn asked(mut command: Command) -> Result<Option<Vec<u8>>, GitError> {
    let output = command.output().map_err(GitError::NoGit)?;
    Ok(output.status.success().then_some(output.stdout))
}

/// Whether a folder is a bare repository: one without files to work on.
pub fn is_bare_repository(folder: &Path) -> bool {
    let mut command = git(folder);
    command.args(["rev-parse", "--is-bare-repository"]);
    matches!(asked(command), Ok(Some(answer)) if answer.starts_with(b"true"))
}

/// The commit that a folder is at, and whether something in it is in no commit; `None` outside of git.
pub fn commit_of(folder: &Path) -> Option<(String, bool)> {
    let mut command = git(folder);
    command.args(["rev-parse", "--verify", "--quiet", "HEAD"]);
    let commit = asked(command).ok()??;
    let mut command = git(folder);
    command.args(["status", "--porcelain", "--", "."]);
    let changes = asked(command).ok()??;
    Some((String::from_utf8_lossy(&commit).trim().to_owned(), !changes.is_empty()))
}

/// The files of a folder as they are in a revision: a branch, tag or commit, as git names it.
pub fn at_revision(folder: &Path, revision: &str) -> Result<Memory, GitError> {
    let mut command = git(folder);
    command.args(["rev-parse", "--git-dir"]);
    if asked(command)?.is_none() {
        return Err(GitError::NoRepository(folder.display().to_string()));
    }
    let mut command = git(folder);
    let commit = format!("{revision}^{{commit}}");
    command.args(["rev-parse", "--verify", "--quiet", "--end-of-options", &commit]);
    let Some(commit) = asked(command)? else { return Err(GitError::NoRevision(revision.to_owned())) };
    let commit = String::from_utf8_lossy(&commit).trim().to_owned();
    let mut command = git(folder);
    command.args(["ls-tree", "-r", "-z", &commit]);
    let listed = asked(command)?.ok_or_else(|| GitError::NoLedger(revision.to_owned()))?;
    let mut blobs: Vec<(String, String)> = Vec::new();
    for entry in listed.split(|byte| *byte == 0).filter(|entry| !entry.is_empty()) {
        // `mode type object\tpath`
        let entry = String::from_utf8_lossy(entry);
        let Some((about, path)) = entry.split_once('\t') else { continue };
        if let [_, "blob", object] = about.split(' ').collect::<Vec<_>>()[..] {
            blobs.push((path.to_owned(), object.to_owned()));
        }
    }
    let folder_of_ledger = folder_of_ledger(&blobs).ok_or_else(|| GitError::NoLedger(revision.to_owned()))?;
    let within = |(path, object): &(String, String)| {
        let path = path.strip_prefix(&folder_of_ledger)?;
        is_of_ledger(path).then(|| (path.to_owned(), object.clone()))
    };
    let wanted: Vec<(String, String)> = blobs.iter().filter_map(within).collect();
    Ok(Memory(contents(folder, &wanted)?))
}

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

/// Whether a path is of a file that a ledger is read from.
fn is_of_ledger(path: &str) -> bool {
    let top = path.split('/').next().unwrap_or_default();
    matches!(top, "ledger.toml" | "shared.toml" | "waivers.toml")
        || matches!(top, "shared" | "units" | "groups" | "stages" | "keys" | "tables")
        || Path::new(path).extension().is_some_and(|ending| ending.eq_ignore_ascii_case("csv"))
}

/// What these objects hold, in one go.
fn contents(folder: &Path, wanted: &[(String, String)]) -> Result<BTreeMap<String, String>, GitError> {
    let mut command = git(folder);
    let command = command.args(["cat-file", "--batch"]).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut child = command.stderr(Stdio::null()).spawn().map_err(GitError::NoGit)?;
    let refused = |what: &str| GitError::Refused(what.to_owned());
    let mut input = child.stdin.take().ok_or_else(|| refused("it takes no input"))?;
    let output = child.stdout.take().ok_or_else(|| refused("it gives no output"))?;
    let objects: Vec<&str> = wanted.iter().map(|(_, object)| object.as_str()).collect();
    let objects = objects.join("\n") + "\n";
    // Git answers while it is asked: both at once, or the pipes fill up.
    let asking = thread::spawn(move || input.write_all(objects.as_bytes()));
    let mut output = BufReader::new(output);
    let mut files = BTreeMap::new();
    for (path, _) in wanted {
        let mut head = String::new();
        output.read_line(&mut head).map_err(|error| refused(&error.to_string()))?;
        let size = head.trim_end().rsplit(' ').next().and_then(|size| size.parse::<usize>().ok());
        let size = size.ok_or_else(|| refused(head.trim_end()))?;
        let mut content = vec![0; size + 1];
        output.read_exact(&mut content).map_err(|error| refused(&error.to_string()))?;
        content.pop();
        let text = String::from_utf8(content).map_err(|_| GitError::NotText(path.clone()))?;
        files.insert(path.clone(), text);
    }
    drop(output);
    let _ = asking.join();
    let _ = child.wait();
    Ok(files)
}
