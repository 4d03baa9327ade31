//! What commands share: opening the ledger, and choosing the stage.

use std::collections::BTreeSet;
use std::env;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use cledger_core::address::{Address, Owner};
use cledger_core::model::{Class, Ledger, StageId, Subject, UnitId};
use cledger_core::name::{Name, nearest};
use cledger_store::{Disk, Identity, Keys, Scope, Surroundings, find, finish_interrupted, read, unit_names};

use crate::cli::Globals;
use crate::error::CliError;
use crate::output::console::Console;

/// How long a command that only reads waits for a change that is being made.
const INTERRUPTED_WAIT: Duration = Duration::from_secs(10);

/// The environment variable that gives the stage where none is named.
const STAGE_VARIABLE: &str = "CLEDGER_STAGE";

/// The program, once its command line is read.
pub(crate) struct App<'c> {
    pub(crate) globals: Globals,
    pub(crate) console: &'c mut Console,
    /// Whoever runs it, as far as keys are concerned.
    pub(crate) identity: Arc<Identity>,
}

/// A stage, and why it is this one where nobody named it.
#[derive(Debug, Clone)]
pub(crate) struct Chosen {
    pub(crate) stage: StageId,
    pub(crate) because: Option<String>,
}

impl App<'_> {
    /// The ledger's folder.
    pub(crate) fn root(&self) -> Result<PathBuf, CliError> {
        let here = env::current_dir()
            .map_err(|error| CliError::outside(format!("the current folder cannot be told: {error}")))?;
        Ok(find(self.globals.ledger.as_deref(), &here)?)
    }

    /// Reads as much of the ledger as the scope asks for.
    pub(crate) fn open(&mut self, scope: &Scope) -> Result<(PathBuf, Ledger), CliError> {
        let root = self.root()?;
        finish_interrupted(&root, INTERRUPTED_WAIT)?;
        let ledger = read(&Disk(root.clone()), scope)?;
        let (folder, files) = (root.display(), ledger.files.0.len());
        self.console.detail(&format!("read {files} files of the ledger in {folder}"));
        Ok((root, ledger))
    }

    /// The keys of the ledger in a folder.
    pub(crate) fn keys(&self, root: &Path) -> Keys<'static> {
        Keys::new(Disk(root.to_owned()), self.identity.clone())
    }

    /// What settings lead to outside of the ledger in a folder.
    pub(crate) fn outside(&self, root: &Path) -> Surroundings<'static> {
        Surroundings { files: Some(root.to_owned()), keys: self.keys(root) }
    }

    /// The same where nothing is fetched from the environment and from files.
    pub(crate) fn unfetched(&self, root: &Path) -> Surroundings<'static> {
        Surroundings { files: None, keys: self.keys(root) }
    }

    /// Tells whose secrets could not be read.
    pub(crate) fn tell_unreadable(&self, keys: &Keys<'_>) {
        for (scope, reason) in keys.not_at_hand() {
            self.console
                .notice(&format!("The secrets of `{}` are not readable here: {reason}.", scope.name()));
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
            let known = self.root().map(|root| unit_names(&Disk(root))).unwrap_or_default();
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
