//! Making a delivery count, and seeing that it does.

use std::fs;
use std::io::Read as _;
use std::os::unix::process::CommandExt as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, SystemTime};

use rustix::process::{Pid, Signal, kill_process_group};

use crate::failure::Deadline;
use crate::http::{Redirects, agent, failure};
use crate::trust::Trust;

/// How long the pause between two looks is.
const PAUSE: Duration = Duration::from_millis(50);

/// The most of what a program says that is told, in bytes.
const SAID: u64 = 2000;

/// Starts a program with its arguments in a folder, without a shell, and waits until it has ended well.
/// What it started too is stopped when its time is over. The error says what went wrong.
pub fn reload(words: &[String], folder: &Path, within: Duration) -> Result<(), String> {
    let Some((program, arguments)) = words.split_first() else { return Ok(()) };
    let mut child = Command::new(program)
        .args(arguments)
        .current_dir(folder)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .process_group(0)
        .spawn()
        .map_err(|error| format!("`{program}` cannot be started: {error}"))?;
    let deadline = Deadline::within(within);
    let (sender, receiver) = mpsc::channel();
    if let Some(errors) = child.stderr.take() {
        thread::spawn(move || {
            let mut said = Vec::new();
            let read = errors.take(SAID).read_to_end(&mut said);
            let _ = sender.send(read.map(|_| String::from_utf8_lossy(&said).trim().to_owned()));
        });
    }
    let ended = loop {
        match child.try_wait() {
            Ok(Some(status)) => break status,
            Ok(None) if deadline.left().is_ok() => thread::sleep(PAUSE.min(Duration::from_millis(10))),
            outcome => {
                // The group has the number of the child, which is still ours until it is waited for.
                if let Some(group) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) {
                    let _ = kill_process_group(group, Signal::KILL);
                }
                let _ = child.wait();
                return Err(match outcome {
                    Err(error) => format!("`{program}` cannot be waited for: {error}"),
                    Ok(_) => {
                        format!("`{program}` did not end within {} s, and was stopped", within.as_secs_f32())
                    }
                });
            }
        }
    };
    if ended.success() {
        return Ok(());
    }
    let said = receiver.recv_timeout(PAUSE).ok().and_then(Result::ok).filter(|said| !said.is_empty());
    let last = said.as_deref().and_then(|said| said.lines().last()).map(|line| format!(": {line}"));
    Err(format!("`{program}` ended with {ended}{}", last.unwrap_or_default()))
}

/// Waits until an address answers with a status of success. The error says what it did last.
pub fn answers(url: &str, trust: &Trust, within: Duration) -> Result<(), String> {
    let deadline = Deadline::within(within);
    loop {
        let last = match asked(url, trust, deadline) {
            Ok(()) => return Ok(()),
            Err(last) => last,
        };
        if deadline.left().is_ok_and(|left| left > PAUSE) {
            thread::sleep(PAUSE);
        } else {
            return Err(format!("`{url}` is not ready within {} s: {last}", within.as_secs_f32()));
        }
    }
}

fn asked(url: &str, trust: &Trust, deadline: Deadline) -> Result<(), String> {
    let trust = url.starts_with("https://").then_some(trust);
    let agent = agent(trust, None, Redirects::Shown, deadline).map_err(|failure| failure.to_string())?;
    let response = agent.get(url).call().map_err(|error| failure(&error, false).to_string())?;
    let status = response.status();
    if status.is_success() { Ok(()) } else { Err(format!("status {}", status.as_u16())) }
}

/// When a file was last written; `None` where there is none.
pub fn stamp(path: &Path) -> Option<SystemTime> {
    fs::metadata(path).and_then(|about| about.modified()).ok()
}

/// Waits until a file in a folder is written anew, that is, until its stamp is another one than this.
pub fn written_since(
    folder: &Path,
    path: &str,
    before: Option<SystemTime>,
    within: Duration,
) -> Result<(), String> {
    let deadline = Deadline::within(within);
    loop {
        let now = stamp(&folder.join(path));
        if now.is_some() && now != before {
            return Ok(());
        }
        if deadline.left().is_err() {
            return Err(format!("`{path}` is not written anew within {} s", within.as_secs_f32()));
        }
        thread::sleep(PAUSE);
    }
}
