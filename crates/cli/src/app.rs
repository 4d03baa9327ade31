//! The program at work: its options, where it prints, and the workplace that it is.

use std::path::PathBuf;
use std::sync::Arc;
use std::{env, fs};

use cledger_store::{AskPassphrase, Identity, Scope, State};
use cledger_work::asking::Nobody;
use cledger_work::change::Changing;
use cledger_work::whole_units::WholeUnits;
use cledger_work::workplace::UsualStage;
use cledger_work::{Opened, Trouble, Workplace};
use jiff::Timestamp;
use zeroize::Zeroizing;

use crate::exit;
use crate::globals::Globals;
use crate::options::{AtOnceOptions, WaitOptions};
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::terminal::{Terminal, passphrase};

/// The environment variable that gives the stage where none is named.
const STAGE_VARIABLE: &str = "CLEDGER_STAGE";

/// The day that counts as today where no option gives one.
const TODAY_VARIABLE: &str = "CLEDGER_TODAY";

/// The environment variable by which a pipeline says that ledgers are trusted.
const TRUST_VARIABLE: &str = "CLEDGER_TRUST";

/// The environment variable that names an identity file in place of the usual one.
const IDENTITY_VARIABLE: &str = "CLEDGER_IDENTITY";

/// The environment variable with the address of a daybook in PostgreSQL.
const DAYBOOK_VARIABLE: &str = "CLEDGER_DAYBOOK";

/// The environment variables that say who somebody is, the stronger first.
const WHO: [&str; 3] = ["CLEDGER_WHO", "USER", "LOGNAME"];

/// The program, once its command line is read.
pub(crate) struct App<'c> {
    pub(crate) console: &'c mut Console,
    /// Where, by whom and when it works.
    pub(crate) at: Arc<Workplace>,
    /// The whole command tree.
    pub(crate) tree: fn() -> clap::Command,
}

impl<'c> App<'c> {
    pub(crate) fn new(globals: Globals, console: &'c mut Console, tree: fn() -> clap::Command) -> Self {
        let at = Arc::new(workplace(globals, console));
        Self { console, at, tree }
    }
}

impl App<'_> {
    /// Reads as much of the ledger as the scope asks for, all of which must be readable.
    pub(crate) fn open(&self, scope: &Scope) -> Result<Opened, Trouble> {
        Opened::read(&self.at, scope)
    }

    /// The same as far as it can be read: for whoever asks for one thing, or for a list.
    pub(crate) fn open_partly(&self, scope: &Scope) -> Result<Opened, Trouble> {
        Opened::read_partly(&self.at, scope)
    }

    /// Reads the ledger for some units as far as it can be read, and for a whole stage if all of it can be.
    pub(crate) fn open_for(&self, what: &WholeUnits) -> Result<Opened, Trouble> {
        if what.is_all() { self.open(&Scope::Whole) } else { self.open_partly(&Scope::Whole) }
    }

    /// Locks the ledger for a change, and reads all of it.
    pub(crate) fn change(&self, wait: &WaitOptions) -> Result<Changing, Trouble> {
        Changing::start(&self.at, wait.time())
    }

    /// The same for a command that acts at once.
    pub(crate) fn change_at_once(&self, options: &AtOnceOptions) -> Result<Changing, Trouble> {
        Ok(self.change(&options.wait)?.dry_run(options.dry_run.is_given))
    }

    /// The same as far as it can be read: for changes of single places.
    pub(crate) fn change_partly(&self, wait: &WaitOptions) -> Result<Changing, Trouble> {
        Changing::start_partly(&self.at, wait.time())
    }

    /// Shows a result, to people or as the one document for programs, and gives the exit status. What ended the
    /// work after some of it was done is told behind that.
    pub(crate) fn show(&mut self, result: &impl Shown) -> u8 {
        if self.console.is_json() {
            self.console.document(&result.document());
        } else {
            result.print(self.console);
        }
        if let Some(trouble) = result.trouble() {
            self.console.tell(trouble);
        }
        exit::of_result(result.kind())
    }
}

/// The workplace that this process is, by its environment.
fn workplace(globals: Globals, console: &Console) -> Workplace {
    let text = |name: &str| env::var(name).ok().filter(|text| !text.is_empty());
    let terminal = Terminal::of(console);
    let stage = env::var_os(STAGE_VARIABLE).filter(|name| !name.is_empty());
    Workplace {
        named: globals.ledger,
        here: env::current_dir().unwrap_or_default(),
        identity: identity(),
        state: State::usual(),
        who: WHO.iter().find_map(|name| text(name)),
        host: host(),
        usual_stage: stage.map(|name| UsualStage {
            name: name.to_string_lossy().into_owned(),
            by: STAGE_VARIABLE.to_owned(),
        }),
        today: text(TODAY_VARIABLE),
        clock: Timestamp::now,
        is_trusted: globals.trust || env::var_os(TRUST_VARIABLE).is_some_and(|value| value == "1"),
        // What is no text is no address either.
        daybook: env::var_os(DAYBOOK_VARIABLE)
            .filter(|address| !address.is_empty())
            .map(|address| Zeroizing::new(address.into_string().unwrap_or_default())),
        telling: Box::new(terminal),
        asking: Box::new(terminal),
        stepping: Box::new(Nobody),
    }
}

/// Whoever runs the program, as far as keys are concerned. Nothing is read yet.
fn identity() -> Arc<Identity> {
    let named = env::var_os(IDENTITY_VARIABLE).filter(|path| !path.is_empty()).map(PathBuf::from);
    let ask: AskPassphrase = Arc::new(passphrase);
    Arc::new(match named {
        Some(path) => Identity::named(path, ask),
        None => Identity::at(Identity::usual_path(), ask),
    })
}

/// The name of this machine, where the system tells it.
fn host() -> Option<String> {
    let name = fs::read_to_string("/proc/sys/kernel/hostname").ok()?;
    Some(name.trim().to_owned()).filter(|name| !name.is_empty())
}
