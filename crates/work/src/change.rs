//! Changing a ledger: locked from the reading to the writing, with what the change does to effective
//! values worked out before anything is written.

pub(crate) mod concerned;

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use cledger_core::address::Owner;
use cledger_core::effects::{Effect, Seen, effects_for};
use cledger_core::findings::Finding;
use cledger_core::model::{BrokenFile, Class, LayerId, Ledger, Mistake, Stage, StageId, TableFault};
use cledger_core::name::Name;
use cledger_core::resolve::{Resolver, Unfetched};
use cledger_core::trust::{self, Named};
use cledger_store::{
    Changed, Disk, Edit, Keys, Locked, Overlay, Resealed, Scope, StateError, Surroundings, Tree as _,
    Unreadable, apply, read_again, read_partly, reseal,
};

pub(crate) use self::concerned::Concerns;
use crate::differing::differing;
use crate::folio::CAME;
use crate::opened::Opened;
use crate::several::lock;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// Nothing changes.
pub(crate) static NO_CHANGE: Changed = Changed::new();

/// What somebody says beside what is to be changed.
#[derive(Debug, Clone, Default)]
pub struct Consent {
    /// The production stages that are meant, by their names.
    pub countersign: Vec<Name>,
    /// The reason.
    pub why: Option<String>,
}

/// A ledger that is being changed.
pub struct Changing {
    disk: Disk,
    locked: Locked,
    /// The ledger as it is.
    pub opened: Opened,
    /// Whether nothing is written, whatever is planned.
    dry_run: bool,
    /// The change that was looked at last, and the ledger after it: what it comes to in the end is read on from there.
    last: Mutex<Option<(Changed, Ledger)>>,
}

/// A change that can be made.
pub(crate) struct Planned {
    /// The new texts.
    pub(crate) changed: Changed,
    /// The ledger as it will be.
    pub(crate) after: Ledger,
    /// The effective values that change.
    pub(crate) effects: Vec<Effect>,
    /// What it can concern.
    pub(crate) concerns: Concerns,
    /// The stages in which values can change; all if not given.
    pub(crate) stages: Option<BTreeSet<Name>>,
}

impl Changing {
    /// Locks the ledger, waiting so long for somebody else who is changing it, and reads all of it.
    pub fn start(at: &Arc<Workplace>, wait: Duration) -> Result<Self, Trouble> {
        let changing = Self::start_quietly(at, wait)?;
        changing.opened.refuse_broken(None, changing.ledger().broken.0.iter())?;
        Ok(changing)
    }

    /// The same as far as it can be read, and tells what is passed over: a mistake in one file stops only what needs
    /// that file.
    pub fn start_partly(at: &Arc<Workplace>, wait: Duration) -> Result<Self, Trouble> {
        let changing = Self::start_quietly(at, wait)?;
        changing.opened.tell_broken();
        Ok(changing)
    }

    /// Locks another ledger than the one that the work is done in.
    pub(crate) fn start_other(at: &Arc<Workplace>, folder: &Path, wait: Duration) -> Result<Self, Trouble> {
        let changing = Self::start_in(at, cledger_store::find(Some(folder), &at.here)?, wait)?;
        changing.opened.refuse_broken(None, changing.ledger().broken.0.iter())?;
        Ok(changing)
    }

    fn start_quietly(at: &Arc<Workplace>, wait: Duration) -> Result<Self, Trouble> {
        Self::start_in(at, at.root()?, wait)
    }

    fn start_in(at: &Arc<Workplace>, root: PathBuf, wait: Duration) -> Result<Self, Trouble> {
        let locked = Locked::take(&root, wait)?;
        if let Some(open) = locked.settled() {
            let count = open.files.len();
            at.telling.notice(&format!("A change of {count} files was interrupted, and is finished now."));
        }
        let disk = Disk::new(root.clone());
        let ledger = read_partly(&disk, &Scope::Whole)?;
        let opened = Opened::of(at, root, ledger, Changed::new());
        if let Some(trouble) = opened.not_recalled() {
            return Err(Trouble::outside(trouble)
                .help("make it readable, or move the file away: then keys count as not seen yet"));
        }
        Ok(Self { disk, locked, opened, dry_run: false, last: Mutex::default() })
    }

    /// The same where only what a change would do is looked at, and nothing is written or asked for.
    #[must_use]
    pub fn dry_run(self, dry_run: bool) -> Self {
        Self { dry_run, ..self }
    }

    /// Whether a change that acts at once is written.
    pub(crate) fn writes(&self) -> bool {
        !self.dry_run
    }

    /// The ledger as it is.
    pub fn ledger(&self) -> &Ledger {
        &self.opened.ledger
    }

    /// The ledger's folder.
    pub(crate) fn root(&self) -> &Path {
        &self.opened.folder
    }

    /// The ledger's files as they are.
    pub(crate) fn disk(&self) -> &Disk {
        &self.disk
    }

    /// Works out what these edits come to. The ledger that they lead to must be readable.
    pub(crate) fn plan(&self, edits: &[Edit]) -> Result<Planned, Trouble> {
        self.plan_texts(apply(&self.disk, edits)?)
    }

    /// Works out what these new texts come to. Nothing is looked at beside the units that they can concern.
    pub(crate) fn plan_texts(&self, changed: Changed) -> Result<Planned, Trouble> {
        let stages = concerned::stages(self.ledger(), &changed);
        let planned = self.plan_texts_in(changed, stages.as_ref())?;
        Ok(Planned { stages, ..planned })
    }

    /// The same where values can change in these stages alone.
    pub(crate) fn plan_texts_in(
        &self,
        changed: Changed,
        stages: Option<&BTreeSet<Name>>,
    ) -> Result<Planned, Trouble> {
        let after = self.read_after(&changed)?;
        let units = concerned::units(self.ledger(), &changed);
        let effects = {
            let (old, new) = (self.outside(&NO_CHANGE), self.outside(&changed));
            let (old, new) = (Resolver::new(self.ledger(), &old, &[]), Resolver::new(&after, &new, &[]));
            let effects = effects_for(&old, &new, units.as_ref(), stages);
            old.let_go();
            new.let_go();
            effects
        };
        let concerns = units.map_or(Concerns::All, Concerns::Units);
        Ok(Planned { changed, after, effects, concerns, stages: None })
    }

    /// What these new texts come to where no effective value can change, as of outlets and rules: what they concern is
    /// told from the ledger before and after.
    pub(crate) fn plan_beside_values(
        &self,
        changed: Changed,
        concerns: impl FnOnce(&Ledger, &Ledger) -> Concerns,
    ) -> Result<Planned, Trouble> {
        let after = self.read_after(&changed)?;
        let concerns = concerns(self.ledger(), &after);
        Ok(Planned { changed, after, effects: Vec::new(), concerns, stages: None })
    }

    /// The findings that only the ledger after a planned change has, and those that only the one before has. Nothing is
    /// fetched, and last days do not count.
    pub(crate) fn differing(&self, planned: &Planned) -> (Vec<Finding>, Vec<Finding>) {
        self.differing_as(planned, &planned.concerns, planned.stages.as_ref())
    }

    /// The same where the change concerns something else than its files show.
    pub(crate) fn differing_as(
        &self,
        planned: &Planned,
        concerns: &Concerns,
        stages: Option<&BTreeSet<Name>>,
    ) -> (Vec<Finding>, Vec<Finding>) {
        let before = Resolver::new(self.ledger(), &Unfetched, &[]);
        let after = Resolver::new(&planned.after, &Unfetched, &[]);
        let differing = differing((&before, &after), concerns, stages, None);
        before.let_go();
        after.let_go();
        differing
    }

    /// The ledger as it will be after a change, in which no file may be unreadable that is readable now.
    pub(crate) fn read_after(&self, changed: &Changed) -> Result<Ledger, Trouble> {
        let spoiling = |unreadable| Trouble::Spoiling(Box::new(unreadable));
        let tree = Overlay::new(&self.disk, changed);
        let mut last = lock(&self.last);
        // Only what that change said of files counts, and not what it left as it was.
        let known = last.take().filter(|(known, _)| known.keys().all(|path| changed.contains_key(path)));
        let mut after = match known {
            Some((known, ledger)) => {
                let is_step = |(path, text): &(&String, &Option<String>)| known.get(*path) != Some(*text);
                let step = changed.iter().filter(is_step).map(|(path, text)| (path.clone(), text.clone()));
                read_again(&tree, &ledger, &step.collect())
            }
            None => read_again(&tree, self.ledger(), changed),
        }
        .map_err(spoiling)?;
        let before = &self.ledger().broken.0;
        let is_new = |file: &&BrokenFile| {
            changed.contains_key(&file.path) || !before.iter().any(|known| known.path == file.path)
        };
        let mistakes: Vec<Mistake> =
            after.broken.0.iter().filter(is_new).flat_map(|file| file.mistakes.clone()).collect();
        if mistakes.is_empty() {
            *last = Some((changed.clone(), after.clone()));
            return Ok(after);
        }
        Err(spoiling(Unreadable { what: None, mistakes, files: std::mem::take(&mut after.files) }))
    }

    /// The ledger's keys as they will be after a change.
    pub(crate) fn keys<'c>(&'c self, changed: &'c Changed) -> Keys<'c> {
        let identity = self.opened.at.identity.clone();
        Keys::new(Overlay::new(&self.disk, changed), identity).watched(self.opened.watch().clone())
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
    ) -> Result<Ledger, Trouble> {
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
    pub(crate) fn refuse_bad_rows(&self, planned: &Planned) -> Result<(), Trouble> {
        let is_new = |fault: &&TableFault| {
            let mut known = self.ledger().table_faults.iter();
            !known.any(|other| {
                (&other.owner, &other.entry, other.layer, &other.message)
                    == (&fault.owner, &fault.entry, fault.layer, &fault.message)
            })
        };
        let Some(fault) = planned.after.table_faults.iter().find(is_new) else { return Ok(()) };
        let at = planned.after.files.locate(fault.place);
        let message = format!("{}, in {}:{}", fault.message, at.file, at.line);
        Err(Trouble::usage(message).help(fault.help.clone()))
    }

    /// Writes a planned change, and remembers the keys that it was made with, and what the ledger names by it:
    /// whoever makes a change with this program has said that.
    pub(crate) fn write(&self, planned: &Planned) -> Result<(), Trouble> {
        if self.dry_run {
            return Ok(());
        }
        self.refuse_edited(&planned.changed)?;
        let named = if self.opened.was_trusted() { self.newly_named(planned) } else { BTreeSet::new() };
        self.locked.write(&planned.changed)?;
        let keys = self.opened.watch().to_remember();
        if keys.is_empty() && named.is_empty() {
            return Ok(());
        }
        let state = &self.opened.at.state;
        let remembered = state.remember(self.root(), &planned.after.name, |known| {
            known.keys.extend(keys);
            if let Some(trusted) = &mut known.trusted {
                trusted.extend(named);
            }
        });
        match remembered {
            // Without a place for it nothing is ever remembered, and that is nothing new.
            Ok(()) | Err(StateError::NoPlace) => Ok(()),
            Err(error) => Err(Trouble::outside(format!("the change is written, but {error}"))),
        }
    }

    /// Refuses to write over a file that somebody has saved since the ledger was read: editors know no lock.
    pub(crate) fn refuse_edited(&self, changed: &Changed) -> Result<(), Trouble> {
        let files = self.ledger().files.0.iter().filter(|file| changed.contains_key(&file.path));
        let read: BTreeMap<&str, &String> = files.map(|file| (file.path.as_str(), &file.text)).collect();
        for path in changed.keys() {
            let read = read.get(path.as_str()).copied();
            let now = self.disk.text(path);
            let now = now.map_err(|error| Trouble::outside(format!("`{path}` cannot be read: {error}")))?;
            // Keys are no part of what was read; any other file of ours that was not read was not there.
            let is_toml = Path::new(path).extension().is_some_and(|ending| ending == "toml");
            let is_read = is_toml && !path.starts_with("keys/") && path != CAME;
            if now.as_ref() != read && (read.is_some() || is_read) {
                return Err(Trouble::outside(format!("somebody has changed `{path}` meanwhile"))
                    .help("nothing is written; look at what it says now, and try again"));
            }
        }
        Ok(())
    }

    /// What the ledger names after a change, and did not before.
    fn newly_named(&self, planned: &Planned) -> BTreeSet<Named> {
        let owners: BTreeSet<(Owner, Name)> = planned
            .effects
            .iter()
            .filter_map(|effect| Some((effect.address.owner.clone()?, effect.address.stage.clone()?)))
            .collect();
        let before = trust::of_owners(self.ledger(), &self.outside(&NO_CHANGE), &owners);
        let after = trust::of_owners(&planned.after, &self.outside(&planned.changed), &owners);
        after.into_keys().filter(|named| !before.contains_key(named)).collect()
    }

    /// Refuses a change of these layers that is not granted: settings of a production stage or of
    /// its groups, effective values of one, and settings of a locked stage without a reason.
    pub(crate) fn guard(
        &self,
        layers: &[LayerId],
        planned: &Planned,
        consent: &Consent,
    ) -> Result<(), Trouble> {
        self.guard_with(layers, &[], &planned.effects, consent)
    }

    /// The same where a change also touches what is said of these stages elsewhere: their outlets and rules.
    pub(crate) fn guard_with(
        &self,
        layers: &[LayerId],
        others: &[StageId],
        effects: &[Effect],
        consent: &Consent,
    ) -> Result<(), Trouble> {
        self.granted((layers, others), effects, consent, self.dry_run)
    }

    /// Tells what a change that is only shown will need.
    pub(crate) fn tell_needs(
        &self,
        layers: &[LayerId],
        others: &[StageId],
        effects: &[Effect],
        consent: &Consent,
    ) -> Result<(), Trouble> {
        self.granted((layers, others), effects, consent, true)
    }

    fn granted(
        &self,
        (layers, others): (&[LayerId], &[StageId]),
        effects: &[Effect],
        consent: &Consent,
        is_shown: bool,
    ) -> Result<(), Trouble> {
        let ledger = self.ledger();
        let touched: Vec<StageId> =
            ledger.stage_ids().filter(|&id| layers.iter().any(|&layer| is_of(ledger, id, layer))).collect();
        let locked = touched.iter().map(|&id| ledger.stage(id)).find(|stage| stage.locked);
        if let Some(stage) = locked
            && consent.why.is_none()
        {
            if is_shown {
                let text =
                    format!("`{}` is locked: the change itself needs a reason, --why TEXT.", stage.name);
                self.opened.at.telling.notice(&text);
            } else {
                let message = format!("`{}` is locked: it changes with a reason only", stage.name);
                return Err(Trouble::refused(message).help("add --why TEXT"));
            }
        }
        let is_touched = |stage: &Stage| {
            // A field that is new and has no value changes nothing yet.
            let is_nothing =
                |effect: &&Effect| matches!((&effect.before, &effect.after), (Seen::NotThere, Seen::Unset));
            let mut effects = effects.iter().filter(|effect| !is_nothing(effect));
            touched.iter().chain(others).any(|&id| ledger.stage(id).name == stage.name)
                || effects.any(|effect| effect.address.stage.as_ref() == Some(&stage.name))
        };
        let stages: Vec<&Stage> = ledger.stages.iter().filter(|stage| is_touched(stage)).collect();
        if is_shown {
            let unsigned = unsigned(&stages, &consent.countersign);
            if !unsigned.is_empty() {
                // Whoever can be asked is, by the change itself.
                let or = if self.opened.at.asking.is_there() { ", or asks for these names" } else { "" };
                let text = format!("The change itself needs --countersign {}{or}.", unsigned.join(","));
                self.opened.at.telling.notice(&text);
            }
            return Ok(());
        }
        countersigned(&self.opened.at, &stages, &consent.countersign, CHANGES)
    }
}

/// What a change of a stage does to it.
pub(crate) const CHANGES: &str = "this changes";

/// What handing out does to it.
pub(crate) const HANDS_OUT: &str = "this hands out secrets of";

/// Refuses what something does to stages of which one is a production stage that nobody has countersigned.
pub(crate) fn countersigned(
    at: &Workplace,
    stages: &[&Stage],
    given: &[Name],
    does: &str,
) -> Result<(), Trouble> {
    let names = unsigned(stages, given);
    for name in stages.iter().map(|stage| &stage.name).filter(|name| names.contains(&name.as_str())) {
        if !at.asking.countersigns(name, does)? {
            let (names, stages) =
                (names.join(","), if names.len() == 1 { "a production stage" } else { "production stages" });
            let message = format!("{does} {}, {stages}", names.replace(',', " and "));
            return Err(Trouble::refused(message).help(format!("add --countersign {names}")));
        }
    }
    Ok(())
}

/// The production stages among these that nobody has countersigned.
fn unsigned<'s>(stages: &[&'s Stage], given: &[Name]) -> Vec<&'s str> {
    let production = stages.iter().filter(|stage| stage.class == Class::Production);
    production.map(|stage| &stage.name).filter(|name| !given.contains(name)).map(Name::as_str).collect()
}

/// Refuses to hand out secrets of a production stage that nobody has countersigned.
pub(crate) fn hands_out(
    at: &Workplace,
    stage: &Stage,
    holds_secrets: bool,
    given: &[Name],
) -> Result<(), Trouble> {
    if holds_secrets { countersigned(at, &[stage], given, HANDS_OUT) } else { Ok(()) }
}

/// Whether a layer's settings are a stage's own or those of one of its groups.
fn is_of(ledger: &Ledger, stage: StageId, layer: LayerId) -> bool {
    match layer {
        LayerId::Stage(id) => id == stage,
        LayerId::Group(group) => ledger.stage(stage).groups.contains(&group),
    }
}
