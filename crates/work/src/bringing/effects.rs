//! Having what was brought taken up, and waiting until it is: each program and each look once, however many units
//! share it.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, OnceLock};
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
use crate::several::lock;
use crate::trouble::Trouble;

/// What has units take up what was brought.
pub(crate) struct Effects<'e> {
    ledger: &'e Ledger,
    around: &'e Around<'e>,
    probing: Probing<'e>,
    /// When the files were last written that tell that a delivery counts.
    stamps: Mutex<BTreeMap<String, Option<SystemTime>>>,
    /// What came of each program and each call.
    woken: Mutex<BTreeMap<Call, Result<(), String>>>,
    /// What came of each look.
    ready: Mutex<BTreeMap<String, Look>>,
}

/// What came of a look, which whoever is the first has, and the others wait for.
type Look = Arc<OnceLock<Result<(), String>>>;

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
        let (stamps, woken, ready) = (Mutex::default(), Mutex::default(), Mutex::default());
        Self { ledger: &opened.ledger, around, probing, stamps, woken, ready }
    }

    /// What was taken up so far counts for nothing that is brought from now on.
    pub(crate) fn anew(&self) {
        lock(&self.stamps).clear();
        lock(&self.woken).clear();
        lock(&self.ready).clear();
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
            let mut stamps = lock(&self.stamps);
            let stamp = || effect::stamp(&self.around.ledger_folder.join(&path));
            stamps.entry(path.clone()).or_insert_with(stamp);
        }
        Ok(())
    }

    /// Has what was brought of a unit taken up; nothing where nothing is said of that.
    pub(super) fn take_up(
        &self,
        effect: &Effecting,
        (owner, stage): (&Owner, StageId),
        masking: &Masking,
    ) -> Result<Option<Result<(), String>>, Trouble> {
        if !effect.is_said() {
            return Ok(None);
        }
        let all = effect.wake.iter().map(|wake| self.call(wake, owner, stage));
        let all: Vec<Call> = all.collect::<Result<_, _>>()?;
        // One after the other: programs that reload the same thing are not to meet.
        let mut woken = lock(&self.woken);
        let make = |call: &Call| self.make(call, effect, masking);
        let mut each = all.into_iter().map(|call| woken.entry(call).or_insert_with_key(make).clone());
        Ok(Some(each.find(Result::is_err).unwrap_or(Ok(()))))
    }

    /// Waits until what was taken up of a unit counts; nothing where nobody says what that would show in.
    pub(super) fn ready(
        &self,
        effect: &Effecting,
        (owner, stage, from): (&Owner, StageId, From<'_>),
    ) -> Result<Option<Result<(), String>>, Trouble> {
        let (text, is_file) = match &effect.ready {
            None => return Ok(None),
            Some(Ready::Probe) => return Ok(self.probing.wait((owner, stage), from, effect.within)),
            Some(Ready::Http(text)) => (self.expanded(text, owner, stage)?, false),
            Some(Ready::File(text)) => (self.expanded(text, owner, stage)?, true),
        };
        let look = Arc::clone(lock(&self.ready).entry(text.clone()).or_default());
        Ok(Some(look.get_or_init(|| self.wait(is_file, &text, effect.within)).clone()))
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
            let before = lock(&self.stamps).get(text).copied().flatten();
            return effect::written_since(self.around.ledger_folder, text, before, within);
        }
        effect::answers(text, &self.around.trust, within)
    }

    fn expanded(&self, text: &StageText, owner: &Owner, stage: StageId) -> Result<String, Trouble> {
        let expanded = text.expand_for(self.ledger, owner, stage);
        Ok(expanded.map_err(|missing| Trouble::usage(missing.to_string()))?.into_owned())
    }
}
