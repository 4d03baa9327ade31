//! Making a delivery count, and seeing that it does.

use std::fs;
use std::io::Read;
use std::os::unix::process::CommandExt as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, SystemTime};

use aho_corasick::{AhoCorasick, MatchKind};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD_NO_PAD;
use cledger_core::uri::ENCODED;
use percent_encoding::utf8_percent_encode;
use rustix::process::{Pid, Signal, kill_process, kill_process_group};
use zeroize::Zeroizing;

use crate::failure::Deadline;
use crate::http::{Redirects, agent, failure};
use crate::trust::Trust;

/// How long the pause between two looks is.
const PAUSE: Duration = Duration::from_millis(50);

/// The most of what a program says that is told, in characters: its end.
const SAID: usize = 2000;

/// The most that is kept of it, in bytes, until secrets are masked in it.
const KEPT: usize = 1 << 20;

/// Variables that hold secrets of ours, or lead to them. No program that a ledger names gets them.
pub const OWN_VARIABLES: [&str; 3] = ["CLEDGER_PASSPHRASE", "CLEDGER_IDENTITY", "CLEDGER_DAYBOOK"];

/// A program that makes a delivery count.
#[derive(Debug)]
pub struct Reload<'r> {
    /// The program and its arguments; nothing where this is empty.
    pub words: &'r [String],
    /// The folder that it is started in.
    pub folder: &'r Path,
    /// How long it may take.
    pub within: Duration,
    /// Variables that it does not get.
    pub without: &'r [String],
    /// What hides the secrets of the delivery in what it says.
    pub masking: &'r Masking,
}

/// Starts a program with its arguments in a folder, without a shell, and waits until it has ended well.
/// What it started too is stopped when its time is over. The error says what went wrong, and the end of what
/// the program said on its standard error, with secrets masked.
pub fn reload(this: &Reload<'_>) -> Result<(), String> {
    let Some((program, arguments)) = this.words.split_first() else { return Ok(()) };
    let mut command = Command::new(program);
    command.args(arguments).current_dir(this.folder).process_group(0);
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped());
    for name in OWN_VARIABLES.iter().copied().chain(this.without.iter().map(String::as_str)) {
        command.env_remove(name);
    }
    let mut child = command.spawn().map_err(|error| format!("`{program}` cannot be started: {error}"))?;
    let deadline = Deadline::within(this.within);
    let said = child.stderr.take().map(listen);
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
                if let Err(error) = outcome {
                    return Err(format!("`{program}` cannot be waited for: {error}"));
                }
                let within = this.within.as_secs_f32();
                return Err(format!("`{program}` did not end within {within} s, and was stopped"));
            }
        }
    };
    if ended.success() {
        return Ok(());
    }
    // What it has left running may hold its standard error open.
    let said = said.and_then(|said| said.recv_timeout(PAUSE).ok()).unwrap_or_default();
    let said = this.masking.mask(&String::from_utf8_lossy(&said));
    let said = end_of(said.trim());
    let said = if said.is_empty() { String::new() } else { format!(": {said}") };
    Err(format!("`{program}` ended with {ended}{said}"))
}

/// Sends a signal to the process whose number is in a file.
pub fn signal(pid_file: &Path, name: &str) -> Result<(), String> {
    let shown = pid_file.display();
    let said = fs::read_to_string(pid_file).map_err(|error| format!("`{shown}` cannot be read: {error}"))?;
    let number: Option<i32> = said.trim().parse().ok().filter(|number| *number > 1);
    let pid = number.and_then(Pid::from_raw);
    let pid = pid.ok_or_else(|| format!("`{shown}` holds no number of a process"))?;
    let signal = match name {
        "HUP" => Signal::HUP,
        "USR1" => Signal::USR1,
        "USR2" => Signal::USR2,
        _ => return Err(format!("no signal `{name}` is sent")),
    };
    let number = pid.as_raw_nonzero();
    kill_process(pid, signal)
        .map_err(|error| format!("process {number} of `{shown}` gets no {name}: {error}"))
}

/// Sets the time of a file to now; makes an empty one where there is none.
pub fn touch(path: &Path) -> Result<(), String> {
    let file = fs::File::options().append(true).create(true).open(path);
    let touched = file.and_then(|file| file.set_modified(SystemTime::now()));
    touched.map_err(|error| format!("`{}` cannot be written: {error}", path.display()))
}

/// Calls an address with POST and an empty body, once: another time it might do something else.
pub fn call(url: &str, trust: &Trust, within: Duration) -> Result<(), String> {
    let trust = url.starts_with("https://").then_some(trust);
    let agent = agent(trust, None, Redirects::Shown, Deadline::within(within));
    let agent = agent.map_err(|failure| failure.to_string())?;
    let told = agent.post(url).send_empty();
    let response = told.map_err(|error| format!("`{url}`: {}", failure(&error, false)))?;
    let status = response.status();
    if status.is_success() { Ok(()) } else { Err(format!("`{url}` says status {}", status.as_u16())) }
}

/// Listens to a program on a thread of its own, and gives the end of what it said once that is all.
fn listen(mut errors: impl Read + Send + 'static) -> mpsc::Receiver<Vec<u8>> {
    let (sender, receiver) = mpsc::channel();
    thread::spawn(move || {
        let (mut kept, mut chunk) = (Vec::new(), [0; 8192]);
        while let Ok(count @ 1..) = errors.read(&mut chunk) {
            kept.extend_from_slice(&chunk[..count]);
            if kept.len() > 2 * KEPT {
                kept.drain(..kept.len() - KEPT);
            }
        }
        // Nobody listens any more once the time is over.
        let _ = sender.send(kept);
    });
    receiver
}

/// What a secret looks like somewhere inside of a longer text in base64 (RFC 4648), by its three possible places.
fn in_base64(secret: &str) -> impl Iterator<Item = Zeroizing<String>> {
    (0..3).map(move |before: usize| {
        let bytes = Zeroizing::new([&[0; 2][..before], secret.as_bytes()].concat());
        let text = Zeroizing::new(STANDARD_NO_PAD.encode(&*bytes));
        // Letters that depend on what stands before and behind are left out.
        let from = (before * 8).div_ceil(6);
        let to = bytes.len() * 8 / 6;
        Zeroizing::new(text.get(from..to).unwrap_or_default().to_owned())
    })
}

fn end_of(said: &str) -> &str {
    let start = said.char_indices().rev().nth(SAID - 1).map_or(0, |(at, _)| at);
    &said[start..]
}

/// Hides secrets in what somebody else says, in the forms that they are usually handed on in.
pub struct Masking(Option<AhoCorasick>);

impl std::fmt::Debug for Masking {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Masking(…)")
    }
}

/// What stands in place of a secret.
const MASK: &str = "(secret)";

/// The shortest secret that is looked for, in bytes: shorter ones are part of many words.
const SHORTEST: usize = 3;

impl Masking {
    /// Hides these secrets.
    pub fn of<'s>(secrets: impl IntoIterator<Item = &'s str>) -> Self {
        let mut forms: Vec<Zeroizing<String>> = Vec::new();
        for secret in secrets.into_iter().filter(|secret| secret.len() >= SHORTEST) {
            let quoted = serde_json::to_string(secret).unwrap_or_default();
            forms.push(Zeroizing::new(secret.to_owned()));
            let inside = quoted.get(1..quoted.len().saturating_sub(1)).unwrap_or_default();
            forms.push(Zeroizing::new(inside.to_owned()));
            forms.push(Zeroizing::new(utf8_percent_encode(secret, ENCODED).to_string()));
            forms.extend(in_base64(secret));
            // A text of several lines is often told a line at a time.
            let lines = secret.lines().filter(|line| line.len() > SHORTEST && line.len() < secret.len());
            forms.extend(lines.map(|line| Zeroizing::new(line.to_owned())));
        }
        let forms = forms.iter().filter(|form| form.len() >= SHORTEST).map(|form| form.as_bytes());
        Self(AhoCorasick::builder().match_kind(MatchKind::LeftmostLongest).build(forms).ok())
    }

    /// Whether a secret is in a text; as if one were where that cannot be told.
    pub fn finds(&self, text: &str) -> bool {
        self.0.as_ref().is_none_or(|forms| forms.is_match(text))
    }

    /// A text with all secrets hidden; all of it where that cannot be done.
    pub fn mask(&self, text: &str) -> String {
        let Some(forms) = &self.0 else { return MASK.to_owned() };
        let (mut masked, mut last) = (String::new(), 0);
        for found in forms.find_iter(text) {
            masked.push_str(&text[last..found.start()]);
            masked.push_str(MASK);
            last = found.end();
        }
        masked.push_str(&text[last..]);
        masked
    }
}

/// The longest that one look whether an address is ready takes: another one may be answered.
const TRY: Duration = Duration::from_secs(2);

/// Waits until an address answers with a status of success. The error says what it did last.
pub fn answers(url: &str, trust: &Trust, within: Duration) -> Result<(), String> {
    let last = until(within, |left| asked(url, trust, Deadline::within(left.min(TRY))));
    last.map_err(|last| format!("`{url}` is not ready within {} s: {last}", within.as_secs_f32()))
}

/// Tries something again and again until it does, for so long, with a pause between; each try is told how much time is
/// left. The error is that of the last one.
pub fn until<E>(within: Duration, mut this: impl FnMut(Duration) -> Result<(), E>) -> Result<(), E> {
    let deadline = Deadline::within(within);
    loop {
        let tried = this(deadline.left().unwrap_or(PAUSE));
        if tried.is_ok() || deadline.left().map_or(true, |left| left <= PAUSE) {
            return tried;
        }
        thread::sleep(PAUSE);
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
    until(within, |_| {
        let now = stamp(&folder.join(path));
        let late = || format!("`{path}` is not written anew within {} s", within.as_secs_f32());
        if now.is_some() && now != before { Ok(()) } else { Err(late()) }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_are_masked_in_every_usual_form_before_the_end_is_cut() {
        let masking = Masking::of(["low tide & \"plover\"", "plover", "x", "first line\nsecond line"]);
        for (said, expected) in [
            ("no login with low tide & \"plover\"!", "no login with (secret)!"),
            ("{\"p\":\"low tide & \\\"plover\\\"\"}", "{\"p\":\"(secret)\"}"),
            ("GET /?p=low%20tide%20%26%20%22plover%22", "GET /?p=(secret)"),
            ("Basic bG93IHRpZGUgJiAicGxvdmVyIg==", "Basic (secret)g=="),
            ("Basic YWRhOmxvdyB0aWRlICYgInBsb3ZlciI=", "Basic YWRhOm(secret)I="),
            ("plovers", "(secret)s"),
            ("at second line here", "at (secret) here"),
            ("x", "x"),
        ] {
            assert_eq!(masking.mask(said), expected);
        }
        let long = format!("{}plover", "é".repeat(5000));
        assert_eq!(end_of(&masking.mask(&long)).chars().count(), SAID);
        assert!(end_of("short") == "short");
    }
}
