//! Changing a ledger: locked from the reading to the writing, with what the change does to effective
//! values worked out before anything is written.

use std::io::{self, BufRead as _, IsTerminal as _, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use clap::Args;
use cledger_core::effects::{Effect, Seen, effects};
use cledger_core::model::{Class, LayerId, Ledger, Stage, StageId, TableFault};
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_store::{
    Changed, Disk, Edit, Identity, Keys, Locked, Overlay, Resealed, Scope, Surroundings, apply, read, reseal,
};

use crate::app::App;
use crate::error::CliError;

/// Nothing changes.
pub(crate) static NO_CHANGE: Changed = Changed::new();

/// Options of every command that changes settings.
#[derive(Debug, Clone, Args)]
pub(crate) struct ChangeOptions {
    /// Say which production stages are meant, by their names
    #[arg(long, value_name = "STAGE", value_delimiter = ',')]
    pub(crate) countersign: Vec<Name>,
    /// The reason; needed for a locked stage
    #[arg(long, value_name = "TEXT")]
    pub(crate) why: Option<String>,
    /// Wait so many seconds at most for somebody else who is changing the ledger
    #[arg(long, value_name = "SECONDS", default_value_t = 10)]
    pub(crate) wait: u64,
}

/// A ledger that is being changed.
pub(crate) struct Changing {
    root: PathBuf,
    disk: Disk,
    identity: Arc<Identity>,
    locked: Locked,
    /// The ledger as it is.
    pub(crate) ledger: Ledger,
}

/// A change that can be made.
pub(crate) struct Planned {
    /// The new texts.
    pub(crate) changed: Changed,
    /// The ledger as it will be.
    pub(crate) after: Ledger,
    /// The effective values that change.
    pub(crate) effects: Vec<Effect>,
}

impl Changing {
    /// Locks the ledger and reads all of it.
    pub(crate) fn start(app: &App<'_>, options: &ChangeOptions) -> Result<Self, CliError> {
        let root = app.root()?;
        let locked = Locked::take(&root, Duration::from_secs(options.wait))?;
        let disk = Disk(root.clone());
        let ledger = read(&disk, &Scope::Whole)?;
        Ok(Self { root, disk, identity: app.identity.clone(), locked, ledger })
    }

    /// The ledger's folder.
    pub(crate) fn root(&self) -> &Path {
        &self.root
    }

    /// Works out what these edits come to. The ledger that they lead to must be readable.
    pub(crate) fn plan(&self, edits: &[Edit]) -> Result<Planned, CliError> {
        let changed = apply(&self.disk, edits).map_err(|error| CliError::usage(error.to_string()))?;
        self.plan_texts(changed)
    }

    /// Works out what these new texts come to.
    pub(crate) fn plan_texts(&self, changed: Changed) -> Result<Planned, CliError> {
        let after = self.read_after(&changed)?;
        let effects = {
            let (old, new) = (self.outside(&NO_CHANGE), self.outside(&changed));
            effects(&Resolver::new(&self.ledger, &old, &[]), &Resolver::new(&after, &new, &[]))
        };
        Ok(Planned { changed, after, effects })
    }

    /// The ledger as it will be after a change. It must be readable.
    pub(crate) fn read_after(&self, changed: &Changed) -> Result<Ledger, CliError> {
        read(&Overlay::new(&self.disk, changed), &Scope::Whole)
            .map_err(|unreadable| CliError::Spoiling(Box::new(unreadable)))
    }

    /// The ledger's keys as they will be after a change.
    pub(crate) fn keys<'c>(&'c self, changed: &'c Changed) -> Keys<'c> {
        Keys::new(Overlay::new(&self.disk, changed), self.identity.clone())
    }

    /// What cipher texts open to after a change; nothing is fetched.
    pub(crate) fn outside<'c>(&'c self, changed: &'c Changed) -> Surroundings<'c> {
        Surroundings { files: None, keys: self.keys(changed) }
    }

    /// Encrypts those secrets anew that get another place by a change, which is made on top of earlier
    /// ones that led to `before`. Gives the ledger after it.
    pub(crate) fn resealed(
        &self,
        before: &Ledger,
        so_far: &Changed,
        changed: &mut Changed,
    ) -> Result<Ledger, CliError> {
        let after = self.read_after(changed)?;
        let mut texts = changed.clone();
        let Resealed(count) =
            reseal((before, &self.keys(so_far)), (&after, &self.keys(changed)), &mut texts)?;
        if count == 0 {
            return Ok(after);
        }
        *changed = texts;
        self.read_after(changed)
    }

    /// Refuses a change after which rows of a lookup table do not count that counted before, or were
    /// not there.
    pub(crate) fn refuse_bad_rows(&self, planned: &Planned) -> Result<(), CliError> {
        let is_new = |fault: &&TableFault| {
            let mut known = self.ledger.table_faults.iter();
            !known.any(|other| {
                (&other.owner, &other.entry, other.layer, &other.message)
                    == (&fault.owner, &fault.entry, fault.layer, &fault.message)
            })
        };
        let Some(fault) = planned.after.table_faults.iter().find(is_new) else { return Ok(()) };
        let at = planned.after.files.locate(fault.place);
        let message = format!("{}, in {}:{}", fault.message, at.file, at.line);
        Err(CliError::usage(message).help(fault.help.clone()))
    }

    /// Writes a planned change.
    pub(crate) fn write(&self, planned: &Planned) -> Result<(), CliError> {
        Ok(self.locked.write(&planned.changed)?)
    }

    /// Refuses a change of these layers that is not granted: settings of a production stage or of
    /// its groups, effective values of one, and settings of a locked stage without a reason.
    pub(crate) fn guard(
        &self,
        layers: &[LayerId],
        planned: &Planned,
        options: &ChangeOptions,
    ) -> Result<(), CliError> {
        let ledger = &self.ledger;
        let touched: Vec<StageId> =
            ledger.stage_ids().filter(|&id| layers.iter().any(|&layer| is_of(ledger, id, layer))).collect();
        let locked = touched.iter().map(|&id| ledger.stage(id)).find(|stage| stage.locked);
        if let Some(stage) = locked
            && options.why.is_none()
        {
            let message = format!("`{}` is locked: its settings change with a reason only", stage.name);
            return Err(CliError::refused(message).help("add --why TEXT"));
        }
        let is_touched = |stage: &Stage| {
            // A field that is new and has no value changes nothing yet.
            let is_nothing =
                |effect: &&Effect| matches!((&effect.before, &effect.after), (Seen::NotThere, Seen::Unset));
            let mut effects = planned.effects.iter().filter(|effect| !is_nothing(effect));
            touched.iter().any(|&id| ledger.stage(id).name == stage.name)
                || effects.any(|effect| effect.address.stage.as_ref() == Some(&stage.name))
        };
        let stages: Vec<&Stage> = ledger.stages.iter().filter(|stage| is_touched(stage)).collect();
        countersigned(&stages, options)
    }
}

/// Refuses a change of stages of which one is a production stage that nobody has countersigned.
pub(crate) fn countersigned(stages: &[&Stage], options: &ChangeOptions) -> Result<(), CliError> {
    let production = stages.iter().filter(|stage| stage.class == Class::Production);
    let unsigned: Vec<&Name> =
        production.map(|stage| &stage.name).filter(|name| !options.countersign.contains(name)).collect();
    for name in &unsigned {
        if !typed(name.as_str())? {
            let names: Vec<&str> = unsigned.iter().map(|name| name.as_str()).collect();
            let (names, stages) =
                (names.join(","), if names.len() == 1 { "a production stage" } else { "production stages" });
            let message = format!("this changes {}, {stages}", names.replace(',', " and "));
            return Err(CliError::refused(message).help(format!("add --countersign {names}")));
        }
    }
    Ok(())
}

/// Whether a layer's settings are a stage's own or those of one of its groups.
fn is_of(ledger: &Ledger, stage: StageId, layer: LayerId) -> bool {
    match layer {
        LayerId::Stage(id) => id == stage,
        LayerId::Group(group) => ledger.stage(stage).groups.contains(&group),
    }
}

/// Asks for a stage's name, where somebody is there to type it.
fn typed(stage: &str) -> Result<bool, CliError> {
    if !io::stdin().is_terminal() || !io::stderr().is_terminal() {
        return Ok(false);
    }
    let failed = |error: io::Error| CliError::outside(format!("the terminal cannot be read: {error}"));
    write!(io::stderr(), "This changes {stage}, a production stage. Type its name to go on: ")
        .map_err(failed)?;
    let mut line = String::new();
    io::stdin().lock().read_line(&mut line).map_err(failed)?;
    Ok(line.trim() == stage)
}
