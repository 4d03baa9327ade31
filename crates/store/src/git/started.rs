//! Git as it is started: so that nothing in a repository can have it run a program or fetch, and so that it
//! cannot hang for ever. Only plumbing is ever asked for, of the kind that runs no filters.

use std::ffi::OsString;
use std::io::{self, Read, Write as _};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{self, Receiver, RecvTimeoutError};
use std::thread;
use std::time::Duration;

use super::{Place, top_of};

/// How long git may say nothing. A repository is text from somebody, too: any file in it may be a pipe.
const SILENCE: Duration = Duration::from_secs(4);

/// Settings that let nothing in a repository start a program or fetch: no hooks, no monitor, no pager, no
/// helpers, no protocol, and no repository that is not asked for by name.
const SETTINGS: [&str; 14] = [
    "core.fsmonitor=false",
    "core.hooksPath=/dev/null",
    "core.pager=cat",
    "core.sshCommand=false",
    "core.gitProxy=",
    "core.askPass=false",
    "core.alternateRefsCommand=",
    "core.untrackedCache=false",
    "credential.helper=",
    "diff.external=",
    "protocol.allow=never",
    "fetch.recurseSubmodules=false",
    "gc.auto=0",
    "safe.bareRepository=explicit",
];

/// The same for the environment; `GIT_ALLOW_PROTOCOL` names the only protocols that may be used.
const ENVIRONMENT: [(&str, &str); 7] = [
    ("GIT_NO_LAZY_FETCH", "1"),
    ("GIT_ALLOW_PROTOCOL", ""),
    ("GIT_OPTIONAL_LOCKS", "0"),
    ("GIT_TERMINAL_PROMPT", "0"),
    ("GIT_NO_REPLACE_OBJECTS", "1"),
    ("GIT_LITERAL_PATHSPECS", "1"),
    ("GIT_PAGER", "cat"),
];

/// Variables by which whoever calls us might point git elsewhere, or have it start something.
const UNSET: [&str; 8] = [
    "GIT_DIR",
    "GIT_WORK_TREE",
    "GIT_INDEX_FILE",
    "GIT_OBJECT_DIRECTORY",
    "GIT_ALTERNATE_OBJECT_DIRECTORIES",
    "GIT_EXTERNAL_DIFF",
    "GIT_SSH_COMMAND",
    "GIT_TRACE2_EVENT",
];

/// Git in a folder, or with a bare repository.
pub(super) fn git(place: &Place<'_>) -> Command {
    let mut command = Command::new("git");
    command.arg("--no-pager");
    for setting in SETTINGS {
        command.args(["-c", setting]);
    }
    match place {
        Place::Folder { folder, trusted } => {
            if let Some(top) = top_of(folder).filter(|_| *trusted) {
                // Git passes over repositories of other users; this one was named.
                command.arg("-c").arg(format!("safe.directory={}", top.display()));
            }
            command.arg("-C").arg(folder);
        }
        Place::Bare(folder) => {
            let mut argument = OsString::from("--git-dir=");
            argument.push(folder);
            command.arg(argument);
        }
    }
    for name in UNSET {
        command.env_remove(name);
    }
    command.envs(ENVIRONMENT);
    command
}

/// Git at work: what it prints can be read, and where it says nothing for too long, that is an error.
pub(super) struct Started {
    child: Child,
    said: Receiver<Vec<u8>>,
    /// What was said and is not read yet.
    rest: Vec<u8>,
}

impl Started {
    /// Starts git and tells it this.
    pub(super) fn new(mut command: Command, told: Vec<u8>) -> io::Result<Self> {
        command.stdin(if told.is_empty() { Stdio::null() } else { Stdio::piped() });
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn()?;
        if let Some(mut input) = child.stdin.take() {
            // Git answers while it is asked: both at once, or the pipes fill up.
            thread::spawn(move || input.write_all(&told));
        }
        let (sender, said) = mpsc::sync_channel(4);
        if let Some(mut output) = child.stdout.take() {
            thread::spawn(move || {
                let mut chunk = vec![0; 1 << 16];
                while let Ok(count @ 1..) = output.read(&mut chunk) {
                    if sender.send(chunk[..count].to_vec()).is_err() {
                        return;
                    }
                }
            });
        }
        Ok(Self { child, said, rest: Vec::new() })
    }

    /// All that it prints; `None` if it ends with a failure.
    pub(super) fn all(mut self) -> io::Result<Option<Vec<u8>>> {
        let mut all = Vec::new();
        self.read_to_end(&mut all)?;
        Ok((self.status()? == Some(0)).then_some(all))
    }

    /// The status that it ends with, once it has said all.
    pub(super) fn status(&mut self) -> io::Result<Option<i32>> {
        io::copy(self, &mut io::sink())?;
        Ok(self.child.wait()?.code())
    }
}

impl Read for Started {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        if self.rest.is_empty() {
            match self.said.recv_timeout(SILENCE) {
                Ok(chunk) => self.rest = chunk,
                Err(RecvTimeoutError::Disconnected) => return Ok(0),
                Err(RecvTimeoutError::Timeout) => {
                    let message = format!("git said nothing for {} s", SILENCE.as_secs());
                    return Err(io::Error::new(io::ErrorKind::TimedOut, message));
                }
            }
        }
        let count = into.len().min(self.rest.len());
        into[..count].copy_from_slice(&self.rest[..count]);
        self.rest.drain(..count);
        Ok(count)
    }
}

impl Drop for Started {
    fn drop(&mut self) {
        // It has ended, or is of no use any more.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
