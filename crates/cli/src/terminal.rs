//! Whoever sits at the terminal: told what happens beside the result, and asked for what a command needs.

use std::env;
use std::io::{self, BufRead as _, IsTerminal as _, Write as _};

use anstream::{AutoStream, ColorChoice};
use cledger_core::name::Name;
use cledger_store::SecretString;
use cledger_work::Trouble;
use cledger_work::asking::{Asking, Nobody, Progress, Telling, countersign_asked};
use indicatif::{ProgressBar, ProgressStyle};
use zeroize::Zeroizing;

use crate::output::clean::clean;
use crate::output::console::Console;

/// The environment variable that gives a passphrase where nobody is there to type it.
const PASSPHRASE_VARIABLE: &str = "CLEDGER_PASSPHRASE";

/// Standard error, and standard input where both are a terminal.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Terminal {
    color: ColorChoice,
    quiet: bool,
    verbose: bool,
}

impl Terminal {
    /// The terminal that a console's notices go to.
    pub(crate) fn of(console: &Console) -> Self {
        Self { color: console.color(), quiet: console.is_quiet(), verbose: console.is_verbose() }
    }

    fn write(self, text: &str) {
        let _ = writeln!(AutoStream::new(io::stderr().lock(), self.color), "{}", clean(text));
    }

    /// Asks for a line.
    fn line(prompt: &str) -> Result<Zeroizing<String>, Trouble> {
        write!(io::stderr(), "{prompt}").map_err(|error| failed(&error))?;
        // Room enough for most: text that moves leaves a copy behind.
        let mut line = Zeroizing::new(String::with_capacity(1 << 12));
        io::stdin().lock().read_line(&mut line).map_err(|error| failed(&error))?;
        let length = line.trim_end_matches(['\n', '\r']).len();
        line.truncate(length);
        Ok(line)
    }
}

impl Telling for Terminal {
    fn notice(&self, text: &str) {
        if !self.quiet {
            self.write(text);
        }
    }

    fn detail(&self, text: &str) {
        if self.verbose {
            self.write(text);
        }
    }

    /// A bar, on a terminal, where notices are wanted; elsewhere only what came of each part.
    fn begins(&self, count: usize, what: &'static str) -> Box<dyn Progress> {
        if self.quiet || count < 2 {
            return Box::new(Nobody);
        }
        if !io::stderr().is_terminal() {
            return Box::new(Lines(*self));
        }
        let bar = ProgressBar::new(count as u64);
        let bar = match ProgressStyle::with_template("{pos} of {len} {msg} {wide_bar}") {
            Ok(style) => bar.with_style(style).with_message(what),
            Err(_) => bar,
        };
        Box::new(Bar(bar))
    }
}

impl Asking for Terminal {
    fn countersigns(&self, stage: &Name, does: &str) -> Result<bool, Trouble> {
        if !is_terminal() {
            return Ok(false);
        }
        let line = Self::line(&format!("{}: ", countersign_asked(stage, does)))?;
        Ok(line.trim() == stage.as_str())
    }

    fn secret(&self, what: &str) -> Result<Option<Zeroizing<String>>, Trouble> {
        if is_terminal() { typed_twice(what).map(Some) } else { Ok(None) }
    }

    fn value(&self, what: &str) -> Result<Option<Zeroizing<String>>, Trouble> {
        if !is_terminal() {
            return Ok(None);
        }
        Ok(Some(Self::line(&format!("{what}: "))?).filter(|answer| !answer.is_empty()))
    }

    fn is_there(&self) -> bool {
        is_terminal()
    }
}

/// What came of each part, a line each.
struct Lines(Terminal);

impl Progress for Lines {
    fn done(&self, _: usize) {}

    fn ended(&self, part: &str) {
        self.0.write(part);
    }
}

/// A bar that is cleared when it is dropped.
struct Bar(ProgressBar);

impl Progress for Bar {
    fn done(&self, count: usize) {
        self.0.set_position(count as u64);
    }

    fn ended(&self, part: &str) {
        self.0.println(clean(part));
    }
}

impl Drop for Bar {
    fn drop(&mut self) {
        self.0.finish_and_clear();
    }
}

fn is_terminal() -> bool {
    io::stdin().is_terminal() && io::stderr().is_terminal()
}

fn failed(error: &io::Error) -> Trouble {
    Trouble::outside(format!("the terminal cannot be read: {error}"))
}

/// Asks for a secret, hidden, and once more.
fn typed_twice(what: &str) -> Result<Zeroizing<String>, Trouble> {
    let ask = |prompt: String| {
        rpassword::prompt_password(prompt).map(Zeroizing::new).map_err(|error| failed(&error))
    };
    let first = ask(format!("{what} (hidden): "))?;
    if *first == *ask("Once more: ".to_owned())? {
        Ok(first)
    } else {
        Err(Trouble::usage("the two differ, so nothing is set").help("try again"))
    }
}

/// The passphrase that the environment gives.
pub(crate) fn given_passphrase() -> Option<SecretString> {
    env::var(PASSPHRASE_VARIABLE).ok().map(SecretString::from)
}

/// A passphrase from the environment, else from the terminal.
pub(crate) fn passphrase(prompt: &str) -> Option<SecretString> {
    if let Some(given) = given_passphrase() {
        return Some(given);
    }
    let typed = is_terminal().then(|| rpassword::prompt_password(format!("{prompt}: ")).ok()).flatten();
    typed.map(SecretString::from)
}

/// A passphrase for a new key: from the environment, else typed twice.
pub(crate) fn new_passphrase() -> Result<SecretString, Trouble> {
    if let Some(given) = given_passphrase() {
        return Ok(given);
    }
    if !is_terminal() {
        return Err(Trouble::usage("nobody is there to type the passphrase")
            .help(format!("give it in {PASSPHRASE_VARIABLE}")));
    }
    Ok(SecretString::from(typed_twice("the passphrase")?.as_str()))
}
