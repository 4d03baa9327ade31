//! What commands share: opening the ledger, and choosing the stage.

use std::collections::BTreeSet;
use std::env;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::thread;
use std::time::Duration;

use cledger_core::address::{Address, Owner};
use cledger_core::model::{Class, Ledger, StageId, Subject, UnitId};
use cledger_core::name::{Name, nearest};
use cledger_core::trust::Granted;
use cledger_store::{
    Changed, Disk, Folder, Glance, Identity, Keys, NoPlan, Scope, Sight, State, Surroundings, Watch, find,
    read, unit_names,
};

use crate::cli::Globals;
use crate::error::CliError;
use crate::granted::{self, Known};
use crate::output::console::Console;
use crate::secrets;

/// How often a ledger is read that is changed meanwhile, and how long one waits between two times.
const GLANCES: u32 = 20;
const PAUSE: Duration = Duration::from_millis(50);

/// The environment variable that gives the stage where none is named.
const STAGE_VARIABLE: &str = "CLEDGER_STAGE";

/// The program, once its command line is read.
pub(crate) struct App<'c> {
    pub(crate) globals: Globals,
    pub(crate) console: &'c mut Console,
    /// Whoever runs it, as far as keys are concerned.
    pub(crate) identity: Arc<Identity>,
    /// What is remembered of ledgers.
    pub(crate) state: State,
    /// The same of the ledger at hand, once it is read.
    known: OnceLock<Known>,
    /// The texts of a change of the ledger that is open.
    over: Changed,
}

/// A stage, and why it is this one where nobody named it.
#[derive(Debug, Clone)]
pub(crate) struct Chosen {
    pub(crate) stage: StageId,
    pub(crate) because: Option<String>,
}

impl<'c> App<'c> {
    pub(crate) fn new(globals: Globals, console: &'c mut Console) -> Self {
        let (identity, state) = (secrets::identity(), State::usual());
        Self { globals, console, identity, state, known: OnceLock::new(), over: Changed::new() }
    }
}

impl App<'_> {
    /// The ledger's folder.
    pub(crate) fn root(&self) -> Result<PathBuf, CliError> {
        let here = env::current_dir()
            .map_err(|error| CliError::outside(format!("the current folder cannot be told: {error}")))?;
        Ok(find(self.globals.ledger.as_deref(), &here)?)
    }

    /// Reads as much of the ledger as the scope asks for, whole: where a change was made meanwhile, again.
    pub(crate) fn open(&mut self, scope: &Scope) -> Result<(PathBuf, Ledger), CliError> {
        let root = self.root()?;
        let folder = Folder::open(&root).map_err(|error| {
            CliError::outside(format!("the ledger's folder `{}` cannot be opened: {error}", root.display()))
        })?;
        let mut left = GLANCES;
        let (glance, ledger) = loop {
            let glance = Glance::at(&folder);
            let ledger = read(&Disk::with(root.clone(), glance.after()), scope);
            left -= 1;
            if left == 0 || glance.is_same(&Glance::at(&folder)) {
                break (glance, ledger);
            }
            thread::sleep(PAUSE);
        };
        if left == 0 {
            self.console
                .notice("The ledger is being changed all the time: what follows may be of two moments.");
        }
        self.tell_open(&glance);
        self.over = glance.after();
        let ledger = ledger?;
        let (folder, files) = (root.display(), ledger.files.0.len());
        self.console.detail(&format!("read {files} files of the ledger in {folder}"));
        self.recall(&root, &ledger);
        Ok((root, ledger))
    }

    /// Says that a change of the ledger is open, and what that means for whoever reads.
    fn tell_open(&self, glance: &Glance) {
        match (&glance.foreign, &glance.open) {
            (Some(foreign), _) => {
                self.console.notice(&format!("{foreign}: it is passed over ({}).", foreign.help()));
            }
            (None, Some(Err(no_plan))) => {
                self.console.notice(&format!("{no_plan}; it is passed over ({}).", NoPlan::HELP));
            }
            (None, Some(Ok(open))) => {
                let edited = open.edited();
                let but = if edited.is_empty() {
                    String::new()
                } else {
                    format!(", but for {}, edited since", edited.join(", "))
                };
                let count = open.files.len();
                self.console.notice(&format!(
                    "A change of {count} files of this ledger is open: it is read as it is after that{but}. \
                     `cledger resume` shows it, to finish it or put it back."
                ));
            }
            (None, None) => {}
        }
    }

    /// The ledger's files, as they were read.
    pub(crate) fn disk(&self, root: &Path) -> Disk {
        Disk::with(root, self.over.clone())
    }

    /// The keys of the ledger in a folder.
    pub(crate) fn keys(&self, root: &Path) -> Keys<'static> {
        Keys::new(self.disk(root), self.identity.clone()).watched(self.watch())
    }

    /// What settings lead to outside of the ledger in a folder, as far as it may reach there.
    pub(crate) fn outside(&self, root: &Path) -> Surroundings<'static> {
        Surroundings::fetching(root.to_owned(), self.granted().clone(), self.keys(root))
    }

    /// The same where nothing is fetched from the environment and from files.
    pub(crate) fn unfetched(&self, root: &Path) -> Surroundings<'static> {
        Surroundings::closed(self.keys(root))
    }

    /// Recalls what is known of a ledger; does nothing where that is done.
    pub(crate) fn recall(&self, root: &Path, ledger: &Ledger) {
        self.known.get_or_init(|| {
            let known = Known::of(&self.state, root, ledger, self.globals.trust);
            if let Some(trouble) = &known.trouble {
                self.console.notice(&format!("{trouble}."));
            }
            known
        });
    }

    /// What is known of the ledger at hand.
    pub(crate) fn known(&self) -> Option<&Known> {
        self.known.get()
    }

    /// What the ledger may reach.
    pub(crate) fn granted(&self) -> &Granted {
        static NOTHING: Granted = Granted::Only(None);
        self.known().map_or(&NOTHING, |known| &known.granted)
    }

    /// What watches the ledger's keys.
    pub(crate) fn watch(&self) -> Arc<Watch> {
        self.known().map(|known| known.watch.clone()).unwrap_or_default()
    }

    /// Tells whose secrets could not be read, which keys are not as they were, and what was not fetched.
    pub(crate) fn tell_unread(&self, outside: &Surroundings<'_>) {
        self.tell_unreadable(&outside.keys);
        let refused = outside.refused();
        if !refused.is_empty() {
            let names: Vec<String> = refused.iter().map(granted::said).collect();
            self.console.notice(&format!(
                "Not read, since nobody has said that this ledger may: {}. `cledger trust` shows what it names.",
                names.join(", ")
            ));
        }
    }

    /// Tells whose secrets could not be read, and which keys are not as they were.
    pub(crate) fn tell_unreadable(&self, keys: &Keys<'_>) {
        for (scope, reason) in keys.not_at_hand() {
            self.console
                .notice(&format!("The secrets of `{}` are not readable here: {reason}.", scope.name()));
        }
        for (scope, sight, _) in keys.watch().news() {
            if let Sight::Unexplained(reason) = sight {
                self.console.notice(&format!(
                    "The key of `{}` is not the one that was seen here before: {reason}. Nothing is written \
                     under it; `cledger key list --compare` shows both.",
                    scope.name()
                ));
            }
        }
    }

    /// The unit or instance that an address names, in a ledger that was read for it.
    pub(crate) fn unit(
        &self,
        ledger: &Ledger,
        name: &Name,
        instance: Option<&Name>,
    ) -> Result<Subject, CliError> {
        let Some(id) = ledger.unit_id(name.as_str()) else {
            let known = self.root().map(|root| unit_names(&self.disk(&root))).unwrap_or_default();
            let near = nearest(name.as_str(), known.iter().map(Name::as_str));
            let help = near.map_or("`cledger list units` shows them".to_owned(), |near| {
                format!("did you mean `{near}`?")
            });
            return Err(CliError::usage(format!("there is no unit `{name}`")).help(help));
        };
        let unit = ledger.unit(id);
        let Some(instance) = instance else { return Ok(Subject::Unit(id, None)) };
        let Some(found) = unit.instance(instance.as_str()) else {
            let names: Vec<&str> = unit.instances.iter().map(|known| known.name.as_str()).collect();
            let help = match nearest(instance.as_str(), names.iter().copied()) {
                Some(near) => format!("did you mean `{name}+{near}`?"),
                None if names.is_empty() => format!("`{name}` has no instances"),
                None => format!("its instances are {}", names.join(", ")),
            };
            return Err(CliError::usage(format!("unit `{name}` has no instance `{instance}`")).help(help));
        };
        Ok(Subject::Unit(id, Some(found)))
    }

    /// The subject that an address names, which must belong to the stage.
    pub(crate) fn subject_in(
        &self,
        ledger: &Ledger,
        owner: &Owner,
        stage: StageId,
    ) -> Result<Subject, CliError> {
        let subject = match owner {
            Owner::Shared => Subject::Shared,
            Owner::Unit(unit, instance) => self.unit(ledger, unit, instance.as_ref())?,
        };
        if let Subject::Unit(id, instance) = subject
            && !ledger.unit(id).belongs_to(stage, instance)
        {
            let stages: Vec<&str> = ledger
                .stage_ids()
                .filter(|&stage| ledger.unit(id).belongs_to(stage, instance))
                .map(|stage| ledger.stage(stage).name.as_str())
                .collect();
            let message = format!("`{owner}` does not belong to stage `{}`", ledger.stage(stage).name);
            return Err(CliError::usage(message).help(format!("it belongs to {}", stages.join(", "))));
        }
        Ok(subject)
    }

    /// The stage that is meant: the one that is named, else `CLEDGER_STAGE`, else the ledger's
    /// default. A production stage is only ever meant where it is named.
    pub(crate) fn stage(ledger: &Ledger, named: Option<&Name>) -> Result<Chosen, CliError> {
        if let Some(name) = named {
            return Ok(Chosen { stage: known_stage(ledger, name.as_str())?, because: None });
        }
        if let Some(name) = env::var_os(STAGE_VARIABLE).filter(|name| !name.is_empty()) {
            let name = name.to_string_lossy();
            let stage = known_stage(ledger, &name)?;
            if ledger.stage(stage).class == Class::Production {
                let message = format!(
                    "{STAGE_VARIABLE} names `{name}`, a production stage, which is never taken unless it is named"
                );
                return Err(CliError::refused(message).help(format!("write @{name} behind the address")));
            }
            return Ok(Chosen { stage, because: Some(STAGE_VARIABLE.to_owned()) });
        }
        match ledger.default_stage {
            Some(stage) => Ok(Chosen { stage, because: Some("default_stage in ledger.toml".to_owned()) }),
            None => Err(CliError::usage("no stage is named, and the ledger has no `default_stage`")
                .help(format!("write @STAGE behind the address; the stages are {}", stage_names(ledger)))),
        }
    }
}

/// The stage with this name.
pub(crate) fn known_stage(ledger: &Ledger, name: &str) -> Result<StageId, CliError> {
    ledger.stage_id(name).ok_or_else(|| {
        let help = match nearest(name, ledger.stages.iter().map(|stage| stage.name.as_str())) {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("the stages are {}", stage_names(ledger)),
        };
        CliError::usage(format!("there is no stage `{name}`")).help(help)
    })
}

fn stage_names(ledger: &Ledger) -> String {
    let names: Vec<&str> = ledger.stages.iter().map(|stage| stage.name.as_str()).collect();
    names.join(", ")
}

/// Reads the units that these addresses name, or everything where one names none.
pub(crate) fn scope_of<'a>(addresses: impl IntoIterator<Item = &'a Address>) -> Scope {
    let mut units = BTreeSet::new();
    for address in addresses {
        match &address.owner {
            Some(Owner::Unit(unit, _)) => {
                units.insert(unit.clone());
            }
            Some(Owner::Shared) => {}
            None => return Scope::Whole,
        }
    }
    Scope::Units(units)
}

/// The unit of a subject, if it has one.
pub(crate) fn unit_of(subject: Subject) -> Option<UnitId> {
    match subject {
        Subject::Unit(unit, _) => Some(unit),
        Subject::Shared => None,
    }
}
