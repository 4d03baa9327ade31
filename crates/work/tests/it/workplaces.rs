//! A ledger in a temporary folder, and a workplace where nothing is left to chance.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use cledger_core::address::{Address, Owner, Pattern};
use cledger_core::name::Name;
use cledger_store::{Identity, Scope, State};
use cledger_work::asking::{Asking, Nobody, Stepping};
use cledger_work::change::{Changing, Consent};
use cledger_work::deliver::ToDeliver;
use cledger_work::whole_units::{Units, WholeUnits};
use cledger_work::{Opened, Trouble, Workplace};
use jiff::Timestamp;
use tempfile::TempDir;
use zeroize::Zeroizing;

/// Two stages and a production one, each with a folder beside the ledger.
const MANIFEST: &str = "format = 1\nname = \"Small\"\ndefault_stage = \"dev\"\n\
     [[stage]]\nname = \"dev\"\nclass = \"development\"\n\
     [[stage]]\nname = \"test\"\nclass = \"test\"\nafter = [\"dev\"]\n\
     [[stage]]\nname = \"prod\"\nclass = \"production\"\nafter = [\"test\"]\n\
     [[outlet]]\nname = \"files\"\nkind = \"directory\"\nstages = [\"*\"]\npath = \"../live/${stage.name}\"\n";

/// What somebody answers: production stages that are meant, and values by the words that ask for them.
#[derive(Default)]
pub(crate) struct Answers {
    pub(crate) stages: Vec<&'static str>,
    pub(crate) values: BTreeMap<&'static str, &'static str>,
}

impl Asking for Answers {
    fn countersigns(&self, stage: &Name, _: &str) -> Result<bool, Trouble> {
        Ok(self.stages.contains(&stage.as_str()))
    }

    fn secret(&self, what: &str) -> Result<Option<Zeroizing<String>>, Trouble> {
        self.value(what)
    }

    fn value(&self, what: &str) -> Result<Option<Zeroizing<String>>, Trouble> {
        Ok(self.values.get(what).map(|value| Zeroizing::new((*value).to_owned())))
    }

    fn is_there(&self) -> bool {
        true
    }
}

/// Somebody who does something else before answering that a stage is meant.
#[derive(Clone, Default)]
pub(crate) struct Meddler(Arc<Mutex<Option<Meddling>>>);

type Meddling = Box<dyn FnOnce() + Send>;

impl Meddler {
    /// What is done when the next question is asked.
    pub(crate) fn once(&self, meddling: impl FnOnce() + Send + 'static) {
        *self.0.lock().unwrap() = Some(Box::new(meddling));
    }
}

impl Asking for Meddler {
    fn countersigns(&self, _: &Name, _: &str) -> Result<bool, Trouble> {
        // Whoever delivers meanwhile is asked as well.
        let meddle = self.0.lock().unwrap().take();
        if let Some(meddle) = meddle {
            meddle();
        }
        Ok(true)
    }
}

pub(crate) struct Place {
    folder: Arc<TempDir>,
    pub(crate) at: Arc<Workplace>,
}

impl Place {
    pub(crate) fn new(files: &[(&str, &str)]) -> Self {
        Self::answering(files, Answers::default())
    }

    pub(crate) fn answering(files: &[(&str, &str)], answers: impl Asking + Send + Sync + 'static) -> Self {
        Self::with(files, answers, Nobody)
    }

    pub(crate) fn with(
        files: &[(&str, &str)],
        answers: impl Asking + Send + Sync + 'static,
        stepping: impl Stepping + Send + Sync + 'static,
    ) -> Self {
        let made = Self::at(Arc::new(TempDir::new().unwrap()), answers, stepping);
        for stage in ["dev", "test", "prod"] {
            fs::create_dir_all(made.path(&format!("../live/{stage}"))).unwrap();
        }
        for (path, text) in [("ledger.toml", MANIFEST)].iter().chain(files) {
            made.write(path, text);
        }
        made
    }

    /// The same ledger for another program.
    pub(crate) fn beside(&self, stepping: impl Stepping + Send + Sync + 'static) -> Self {
        Self::at(self.folder.clone(), Answers::default(), stepping)
    }

    fn at(
        folder: Arc<TempDir>,
        answers: impl Asking + Send + Sync + 'static,
        stepping: impl Stepping + Send + Sync + 'static,
    ) -> Self {
        let path = folder.path().to_owned();
        let at = Workplace {
            named: Some(path.join("ledger")),
            here: path.clone(),
            identity: Arc::new(Identity::at(Some(path.join("identity")), Arc::new(|_: &str| None))),
            state: State::at(Some(path.join("state"))),
            who: Some("ada".to_owned()),
            host: Some("quay".to_owned()),
            usual_stage: None,
            today: Some("2026-11-25".to_owned()),
            clock: ticking,
            is_trusted: true,
            daybook: None,
            telling: Box::new(Nobody),
            asking: Box::new(answers),
            stepping: Box::new(stepping),
        };
        Self { folder, at: Arc::new(at) }
    }

    /// A path from the ledger's folder.
    pub(crate) fn path(&self, path: &str) -> PathBuf {
        let ledger = self.folder.path().join("ledger");
        fs::create_dir_all(&ledger).unwrap();
        ledger.join(path)
    }

    pub(crate) fn write(&self, path: &str, text: &str) {
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub(crate) fn read(&self, path: &str) -> String {
        fs::read_to_string(self.path(path)).unwrap()
    }

    pub(crate) fn open(&self) -> Opened {
        Opened::read(&self.at, &Scope::Whole).unwrap()
    }

    pub(crate) fn change(&self) -> Changing {
        Changing::start(&self.at, Duration::from_secs(1)).unwrap()
    }

    /// Everything below its folder, with what is in it and when it was changed.
    pub(crate) fn everything(&self) -> BTreeMap<PathBuf, (Vec<u8>, std::time::SystemTime)> {
        let mut found = BTreeMap::new();
        collect(self.folder.path(), &mut found);
        found
    }
}

fn collect(folder: &Path, found: &mut BTreeMap<PathBuf, (Vec<u8>, std::time::SystemTime)>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            collect(&path, found);
        } else {
            let changed = path.metadata().unwrap().modified().unwrap();
            found.insert(path.clone(), (fs::read(&path).unwrap(), changed));
        }
    }
}

/// A clock that is a second later each time somebody looks at it.
fn ticking() -> Timestamp {
    static SECONDS: AtomicI64 = AtomicI64::new(1_795_600_000);
    Timestamp::from_second(SECONDS.fetch_add(1, Ordering::Relaxed)).unwrap()
}

/// A consent with a reason and, where one is named, a production stage.
pub(crate) fn because(stages: &[&str]) -> Consent {
    let countersign = stages.iter().map(|name| Name::parse(name).unwrap()).collect();
    Consent { countersign, why: Some("trial".to_owned()) }
}

pub(crate) fn address(text: &str) -> Address {
    Address::parse(text).unwrap()
}

/// Units in a stage.
pub(crate) fn whole(text: &str) -> WholeUnits {
    WholeUnits::parse(&[text.to_owned()], None, "meant").unwrap()
}

pub(crate) fn pattern(text: &str) -> Pattern {
    Pattern::parse(text).unwrap()
}

/// A delivery of units to a stage, by their names; all of them without one.
pub(crate) fn asked(units: &[&str], stage: &str) -> ToDeliver {
    let name = |text: &str| Name::parse(text).unwrap();
    ToDeliver {
        what: WholeUnits {
            units: units.iter().map(|unit| Units::Named(Owner::Unit(name(unit), None))).collect(),
            stage: Some(name(stage)),
            delivery: None,
        },
        consent: because(&[]),
        write: true,
        ..ToDeliver::all_of(None)
    }
}
