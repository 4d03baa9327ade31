//! Changing a ledger: locked from the reading to the writing, with what the change does to effective
//! values worked out before anything is written.

use std::collections::BTreeSet;
use std::io::{self, BufRead as _, IsTerminal as _, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use clap::Args;
use cledger_core::address::Owner;
use cledger_core::effects::{Effect, Seen, effects};
use cledger_core::model::{Class, LayerId, Ledger, Stage, StageId, TableFault};
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_core::trust::{self, Named};
use cledger_store::{
    Changed, Disk, Edit, Identity, Keys, Locked, Overlay, Resealed, Scope, State, StateError, Surroundings,
    Watch, apply, read, reseal,
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
    state: State,
    watch: Arc<Watch>,
    /// Whether somebody has said what the ledger may reach.
    is_trusted: bool,
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
        if let Some(open) = locked.settled() {
            let count = open.files.len();
            app.console.notice(&format!("A change of {count} files was interrupted, and is finished now."));
        }
        let disk = Disk::new(root.clone());
        let ledger = read(&disk, &Scope::Whole)?;
        app.recall(&root, &ledger);
        let trouble = app.known().and_then(|known| known.trouble.clone());
        if let Some(trouble) = trouble {
            return Err(CliError::outside(trouble)
                .help("make it readable, or move the file away: then keys count as not seen yet"));
        }
        let is_trusted = app.state.recall(&root, &ledger.name)?.is_some_and(|known| known.trusted.is_some());
        let (identity, state, watch) = (app.identity.clone(), app.state.clone(), app.watch());
        Ok(Self { root, disk, identity, locked, state, watch, is_trusted, ledger })
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
        Keys::new(Overlay::new(&self.disk, changed), self.identity.clone()).watched(self.watch.clone())
    }

    /// What cipher texts open to after a change; nothing is fetched.
    pub(crate) fn outside<'c>(&'c self, changed: &'c Changed) -> Surroundings<'c> {
        Surroundings::closed(self.keys(changed))
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

    /// Writes a planned change, and remembers the keys that it was made with, and what the ledger names by it:
    /// whoever makes a change with this program has said that.
    pub(crate) fn write(&self, planned: &Planned) -> Result<(), CliError> {
        let named = if self.is_trusted { self.newly_named(planned) } else { BTreeSet::new() };
        self.locked.write(&planned.changed)?;
        let keys = self.watch.to_remember();
        if keys.is_empty() && named.is_empty() {
            return Ok(());
        }
        let remembered = self.state.remember(&self.root, &planned.after.name, |known| {
            known.keys.extend(keys);
            if let Some(trusted) = &mut known.trusted {
                trusted.extend(named);
            }
        });
        match remembered {
            // Without a place for it nothing is ever remembered, and that is nothing new.
            Ok(()) | Err(StateError::NoPlace) => Ok(()),
            Err(error) => Err(CliError::outside(format!("the change is written, but {error}"))),
        }
    }

    /// What the ledger names after a change, and did not before.
    fn newly_named(&self, planned: &Planned) -> BTreeSet<Named> {
        let owners: BTreeSet<(Owner, Name)> = planned
            .effects
            .iter()
            .filter_map(|effect| Some((effect.address.owner.clone()?, effect.address.stage.clone()?)))
            .collect();
        let before = trust::of_owners(&self.ledger, &self.outside(&NO_CHANGE), &owners);
        let after = trust::of_owners(&planned.after, &self.outside(&planned.changed), &owners);
        after.into_keys().filter(|named| !before.contains_key(named)).collect()
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
        countersigned(&stages, &options.countersign, CHANGES)
    }
}

/// What a change of a stage does to it.
pub(crate) const CHANGES: &str = "this changes";

/// What handing out does to it.
pub(crate) const HANDS_OUT: &str = "this hands out secrets of";

/// Refuses what something does to stages of which one is a production stage that nobody has countersigned.
pub(crate) fn countersigned(stages: &[&Stage], given: &[Name], does: &str) -> Result<(), CliError> {
    let production = stages.iter().filter(|stage| stage.class == Class::Production);
    let unsigned: Vec<&Name> =
        production.map(|stage| &stage.name).filter(|name| !given.contains(name)).collect();
    for name in &unsigned {
        if !typed(name.as_str(), does)? {
            let names: Vec<&str> = unsigned.iter().map(|name| name.as_str()).collect();
            let (names, stages) =
                (names.join(","), if names.len() == 1 { "a production stage" } else { "production stages" });
            let message = format!("{does} {}, {stages}", names.replace(',', " and "));
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
fn typed(stage: &str, does: &str) -> Result<bool, CliError> {
    if !io::stdin().is_terminal() || !io::stderr().is_terminal() {
        return Ok(false);
    }
    let failed = |error: io::Error| CliError::outside(format!("the terminal cannot be read: {error}"));
    let does = format!("{}{}", does[..1].to_uppercase(), &does[1..]);
    write!(io::stderr(), "{does} {stage}, a production stage. Type its name to go on: ").map_err(failed)?;
    let mut line = String::new();
    io::stdin().lock().read_line(&mut line).map_err(failed)?;
    Ok(line.trim() == stage)
}
