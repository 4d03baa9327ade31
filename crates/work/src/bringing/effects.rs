//! Having what was brought taken up, and waiting until it is: each program and each look once, however many units
//! share it.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use cledger_core::address::Owner;
use cledger_core::model::{Effecting, Ledger, Ready, StageId, StageText, Wake};
use cledger_core::resolve::Resolver;
use cledger_core::trust;
use cledger_outlets::effect::{self, Masking, Reload};

use crate::bringing::plan::From;
use crate::bringing::probing::Probing;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::trouble::Trouble;

/// What has units take up what was brought.
pub(crate) struct Effects<'e> {
    ledger: &'e Ledger,
    around: &'e Around<'e>,
    probing: Probing<'e>,
    /// When the files were last written that tell that a delivery counts.
    stamps: Mutex<BTreeMap<String, Option<SystemTime>>>,
    done: Mutex<Done>,
}

/// What came of each program and each look.
#[derive(Default)]
struct Done {
    woken: BTreeMap<Call, Result<(), String>>,
    ready: BTreeMap<String, Result<(), String>>,
}

/// What has something taken up, with all that it refers to.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Call {
    Program(Vec<String>),
    Signal(String, &'static str),
    Touch(String),
    Address(String),
}

/// Variables that no program gets which a ledger names: those that secrets of its outlets come from, but for
/// those that an outlet passes on.
fn without(ledger: &Ledger, pass: &[String]) -> Vec<String> {
    trust::variables(ledger).filter(|name| !pass.contains(name)).collect()
}

impl<'e> Effects<'e> {
    /// Nothing is taken up yet.
    pub(crate) fn new(opened: &'e Opened, around: &'e Around<'e>, resolver: &'e Resolver<'e>) -> Self {
        let probing = Probing { opened, resolver, trust: &around.trust };
        Self { ledger: &opened.ledger, around, probing, stamps: Mutex::default(), done: Mutex::default() }
    }

    /// What was taken up so far counts for nothing that is brought from now on.
    pub(crate) fn anew(&self) {
        *self.stamps.lock().unwrap_or_else(PoisonError::into_inner) = BTreeMap::new();
        *self.done.lock().unwrap_or_else(PoisonError::into_inner) = Done::default();
    }

    /// Refuses what would be probed afterwards, and may not be reached.
    pub(crate) fn require(&self, effect: &Effecting, owner: &Owner, stage: StageId) -> Result<(), Trouble> {
        match effect.ready {
            Some(Ready::Probe) => self.probing.require(owner, stage),
            Some(Ready::Http(_) | Ready::File(_)) | None => Ok(()),
        }
    }

    /// Notes, before anything is brought, when the file was last written that tells that it counts.
    pub(super) fn note(&self, effect: &Effecting, owner: &Owner, stage: StageId) -> Result<(), Trouble> {
        if let Some(Ready::File(path)) = &effect.ready {
            let path = self.expanded(path, owner, stage)?;
            let mut stamps = self.stamps.lock().unwrap_or_else(PoisonError::into_inner);
            let stamp = || effect::stamp(&self.around.ledger_folder.join(&path));
            stamps.entry(path.clone()).or_insert_with(stamp);
        }
        Ok(())
    }

    /// Has what was brought of a unit taken up, and waits until it is; nothing where nothing is said of that.
    pub(super) fn take_up(
        &self,
        effect: &Effecting,
        (owner, stage, from): (&Owner, StageId, From<'_>),
        masking: &Masking,
    ) -> Result<Option<Result<(), String>>, Trouble> {
        if !effect.is_said() {
            return Ok(None);
        }
        let all = effect.wake.iter().map(|wake| self.call(wake, owner, stage));
        let all: Vec<Call> = all.collect::<Result<_, _>>()?;
        // One after the other: programs that reload the same thing are not to meet.
        let mut done = self.done.lock().unwrap_or_else(PoisonError::into_inner);
        let mut counts = Ok(());
        for call in all {
            let make = |call: &Call| self.make(call, effect, masking);
            counts.clone_from(done.woken.entry(call).or_insert_with_key(make));
            if counts.is_err() {
                break;
            }
        }
        match (&counts, &effect.ready) {
            (Err(_), _) | (_, None) => {}
            (Ok(()), Some(Ready::Probe)) => {
                let probed = self.probing.wait((owner, stage), from, effect.within);
                if probed.is_none() && effect.wake.is_empty() {
                    return Ok(None);
                }
                counts = probed.unwrap_or(Ok(()));
            }
            (Ok(()), Some(this @ (Ready::Http(text) | Ready::File(text)))) => {
                let text = self.expanded(text, owner, stage)?;
                let is_file = matches!(this, Ready::File(_));
                let wait = |text: &String| self.wait(is_file, text, effect.within);
                counts.clone_from(done.ready.entry(text).or_insert_with_key(wait));
            }
        }
        Ok(Some(counts))
    }

    fn call(&self, wake: &Wake, owner: &Owner, stage: StageId) -> Result<Call, Trouble> {
        let text = |text: &StageText| self.expanded(text, owner, stage);
        Ok(match wake {
            Wake::Program(words) => Call::Program(words.iter().map(text).collect::<Result<_, _>>()?),
            Wake::Signal(pid_file, signal) => Call::Signal(text(pid_file)?, signal),
            Wake::Touch(path) => Call::Touch(text(path)?),
            Wake::Call(url) => Call::Address(text(url)?),
        })
    }

    fn make(&self, call: &Call, effect: &Effecting, masking: &Masking) -> Result<(), String> {
        let folder = self.around.ledger_folder;
        match call {
            Call::Program(words) => effect::reload(&Reload {
                words,
                folder,
                within: effect.within,
                without: &without(self.ledger, &effect.pass),
                masking,
            }),
            Call::Signal(pid_file, signal) => effect::signal(&folder.join(pid_file), signal),
            Call::Touch(path) => effect::touch(&folder.join(path)),
            Call::Address(url) => effect::call(url, &self.around.trust, effect.within),
        }
    }

    fn wait(&self, is_file: bool, text: &str, within: Duration) -> Result<(), String> {
        if is_file {
            let stamps = self.stamps.lock().unwrap_or_else(PoisonError::into_inner);
            let before = stamps.get(text).copied().flatten();
            return effect::written_since(self.around.ledger_folder, text, before, within);
        }
        effect::answers(text, &self.around.trust, within)
    }

    fn expanded(&self, text: &StageText, owner: &Owner, stage: StageId) -> Result<String, Trouble> {
        let expanded = text.expand_for(self.ledger, owner, stage);
        Ok(expanded.map_err(|missing| Trouble::usage(missing.to_string()))?.into_owned())
    }
}
