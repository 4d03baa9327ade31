//! Resolution: from layers of settings to effective values.
//!
//! [`Resolver`] is made once for a ledger and may be used from many threads; a [`Session`] resolves
//! the fields of one unit and whatever they refer to. The work is done in two steps: `layers`
//! finds the setting that wins for each field, and `graph` expands its references, in the order in
//! which they depend on each other. Neither recurses along references, so that a chain of any
//! length is fine, and neither depends on the order of files or threads.

mod alike;
mod assume;
mod common;
mod derived;
mod edges;
mod expand;
mod graph;
mod layers;
mod outcome;
mod rows;
mod session;
mod sharded;

use std::sync::{Mutex, OnceLock, PoisonError};

use rayon::prelude::*;
use rustc_hash::FxHashMap;
use zeroize::Zeroizing;

pub(crate) use alike::Alike;
pub use assume::{Assumption, AssumptionError};
use common::CommonOfStage;
pub(crate) use derived::Parts as UrlParts;
use layers::SharedSetting;
pub(crate) use layers::default_counts;
pub use layers::{Link, Winner, layers_of};
pub use outcome::{Because, Content, Effective, Layer, Origin, Outcome, Problem, ProblemCode, Unread};
pub use rows::{EffectiveRow, Merged};
pub(crate) use session::AtOnce;
pub use session::Session;
use sharded::Sharded;

use crate::address::Address;
use crate::cipher::{Cipher, KeyScope};
use crate::model::{Ledger, Part, Slot, StageId, Subject, UNITS_AT_ONCE, UnitId};

/// What a ledger's `from` and cipher texts lead to, outside of it.
pub trait Outside: Sync {
    /// What is found at `env:NAME` or `file:PATH`.
    fn fetch(&self, source: &str) -> Fetched;
    /// What a cipher text opens to that stands among the settings of this stage or group.
    fn open(&self, scope: &KeyScope, cipher: &Cipher) -> Opened;
}

/// What was found outside the ledger.
pub enum Fetched {
    /// This text, with the one final newline of a file dropped.
    Text(Zeroizing<String>),
    /// Nothing, for this reason. The reason never holds the value.
    Nothing(String),
    /// Nobody looked: the value is taken to be there.
    Unread,
    /// Nobody looked, since nobody has said that the ledger may.
    NotTrusted,
}

/// What became of a cipher text.
pub enum Opened {
    /// It opens to this text.
    Text(Zeroizing<String>),
    /// The key is not at hand.
    NoKey,
    /// It opens to nothing, for this reason: it is damaged, or was made for another place.
    Broken(String),
}

/// Looks nowhere, and takes every value outside the ledger to be there.
pub struct Unfetched;

impl Outside for Unfetched {
    fn fetch(&self, _source: &str) -> Fetched {
        Fetched::Unread
    }

    fn open(&self, _scope: &KeyScope, _cipher: &Cipher) -> Opened {
        Opened::NoKey
    }
}

/// One field of one subject in one stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FieldId {
    /// Whose field.
    pub subject: Subject,
    /// Where.
    pub stage: StageId,
    /// Which, in the subject's numbering.
    pub slot: Slot,
}

impl FieldId {
    /// Another field of the same entry, by its name.
    pub(crate) fn beside(self, ledger: &Ledger, name: &str) -> Option<Self> {
        let (known, _) = ledger.slots(self.subject).entry_of(self.slot);
        let position = ledger.entry(self.subject, known.entry).field(Some(name))?;
        Some(Self { slot: Slot(known.first + u32::try_from(position).ok()?), ..self })
    }
}

/// Resolves a ledger's fields.
pub struct Resolver<'l> {
    ledger: &'l Ledger,
    outside: &'l dyn Outside,
    assumptions: &'l [Assumption],
    chains: Vec<Vec<Link<'l>>>,
    /// By stage, for each shared field: the setting under `[shared]` that wins. Worked out when somebody asks.
    shared: Vec<OnceLock<Vec<SharedSetting<'l>>>>,
    /// By stage, the values of shared fields that are common to units.
    common: Vec<CommonOfStage<'l>>,
    /// The units by name, for what texts refer to.
    units: OnceLock<FxHashMap<&'l str, UnitId>>,
    /// What texts lead to that was not read.
    lacking: Mutex<Part>,
    /// Outcomes that other units needed, so that a chain through many units is walked once.
    seen: Sharded<FieldId, Outcome<'l>>,
}

impl<'l> Resolver<'l> {
    /// Prepares for resolving this ledger with these assumptions.
    pub fn new(ledger: &'l Ledger, outside: &'l dyn Outside, assumptions: &'l [Assumption]) -> Self {
        Self {
            ledger,
            outside,
            assumptions,
            chains: ledger.stage_ids().map(|stage| layers::chain(&ledger.stages, stage)).collect(),
            shared: ledger.stage_ids().map(|_| OnceLock::new()).collect(),
            common: ledger.stage_ids().map(|_| OnceLock::new()).collect(),
            units: OnceLock::new(),
            lacking: Mutex::default(),
            seen: Sharded::default(),
        }
    }

    /// The ledger.
    pub fn ledger(&self) -> &'l Ledger {
        self.ledger
    }

    /// What was not read of the ledger, and what was resolved leads to.
    pub fn lacking(&self) -> Part {
        self.lacking.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The layers that count in a stage, weakest first.
    pub fn chain(&self, stage: StageId) -> &[Link<'l>] {
        &self.chains[usize::from(stage.0)]
    }

    /// The unit with this name.
    fn unit_id(&self, name: &str) -> Option<UnitId> {
        let by_name = || self.ledger.unit_ids().map(|id| (self.ledger.unit(id).name.as_str(), id)).collect();
        self.units.get_or_init(by_name).get(name).copied()
    }

    /// Starts resolving, mostly the fields of one unit or none.
    pub fn session(&self, home: Option<UnitId>) -> Session<'_, 'l> {
        Session::new(self, home)
    }

    /// Drops it with all that it knows, on all threads: after a whole ledger that is much.
    pub fn let_go(self) {
        self.seen.let_go();
    }

    /// What `of_unit` tells of each of these units, in their order: on all threads, with a session that has moved to the
    /// unit.
    pub fn of_units<T: Send>(
        &self,
        units: Vec<UnitId>,
        of_unit: impl Fn(&mut Session<'_, 'l>, UnitId) -> T + Sync + Send,
    ) -> impl ParallelIterator<Item = T> {
        let moved = move |session: &mut Session<'_, 'l>, unit: UnitId| {
            session.move_to(unit);
            of_unit(session, unit)
        };
        let units = units.into_par_iter().with_max_len(UNITS_AT_ONCE);
        units.map_init(|| self.session(None), moved)
    }
}

impl Ledger {
    /// The address of a field.
    pub fn address(&self, field: FieldId) -> Address {
        let (entry, declaration) = self.field(field.subject, field.slot);
        let stage = &self.stage(field.stage).name;
        let owner = self.owner(field.subject);
        Address::of_field(owner, &entry.name, declaration.name.as_ref(), Some(stage))
    }
}
