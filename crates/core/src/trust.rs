//! What a ledger names outside of itself: addresses, services, programs, files and variables.
//!
//! A ledger is text from somebody. Its own words lead nowhere until its user has said that they may, for each
//! thing by name: [`of_ledger`] lists them, [`of_outlet`] those that one outlet needs in a stage, and
//! [`Granted`] is what the user has said.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Mutex, PoisonError};

use serde::{Deserialize, Serialize};

use crate::address::Owner;
use crate::cipher::{Cipher, KeyScope};
use crate::impact::Written;
use crate::model::{
    Database, Given, HttpLogin, LayerId, Ledger, LookUp, LookUpSource, Outlet, OutletKind, Ready, StageId,
    StageText, Subject, UnitId, Wake,
};
use crate::name::Name;
use crate::probe::{Service, Target, places};
use crate::resolve::{Fetched, FieldId, Opened, Outside, Resolver};
use crate::search::{self, Conditions};

/// What kind of thing is named.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Thing {
    /// An address that is written to or read from.
    Address,
    /// A host and port that `probe` tries.
    Service,
    /// A program with its arguments.
    Program,
    /// A file or folder.
    File,
    /// An environment variable.
    Variable,
    /// A process that gets a signal: the file with its number, and the signal.
    Process,
}

impl Thing {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Thing::Address => "address",
            Thing::Service => "service",
            Thing::Program => "program",
            Thing::File => "file",
            Thing::Variable => "variable",
            Thing::Process => "process",
        }
    }
}

/// One thing that a ledger names.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Named {
    /// What it is.
    pub thing: Thing,
    /// Its name, as it is used.
    pub name: String,
}

impl Named {
    /// A thing by its name.
    pub fn new(thing: Thing, name: impl Into<String>) -> Self {
        Self { thing, name: name.into() }
    }

    /// What `env:NAME` or `file:PATH` names.
    pub fn of_source(source: &str) -> Self {
        match source.split_once(':') {
            Some(("env", name)) => Self::new(Thing::Variable, name),
            Some(("file", path)) => Self::new(Thing::File, path),
            _ => Self::new(Thing::File, source),
        }
    }
}

/// What a ledger names, and for each where it is named first.
pub type Names = BTreeMap<Named, String>;

/// What the user has said that a ledger may reach.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Granted {
    /// Whatever it names.
    All,
    /// These things; nothing where nobody has said anything yet (`None`).
    Only(Option<BTreeSet<Named>>),
}

impl Granted {
    /// Whether this may be reached.
    pub fn allows(&self, named: &Named) -> bool {
        match self {
            Granted::All => true,
            Granted::Only(set) => set.as_ref().is_some_and(|set| set.contains(named)),
        }
    }

    /// Those of these that may not be reached.
    pub fn refused<'n>(&self, names: impl IntoIterator<Item = &'n Named>) -> Vec<Named> {
        names.into_iter().filter(|named| !self.allows(named)).cloned().collect()
    }

    /// Whether nobody has said anything of this ledger yet.
    pub fn is_unsaid(&self) -> bool {
        matches!(self, Granted::Only(None))
    }
}

/// The text of an outlet in a stage; as it is written where the stage lacks a label.
fn for_stage(text: &StageText, ledger: &Ledger, stage: StageId) -> String {
    text.for_stage(ledger, stage).unwrap_or_else(|_| text.as_written().to_owned())
}

/// The text of an outlet in a stage for each unit that it may refer to: a secret is granted by its own name alone.
fn of_each(text: &StageText, outlet: &Outlet, ledger: &Ledger, stage: StageId) -> Vec<String> {
    if !text.refers_to_unit() {
        return vec![for_stage(text, ledger, stage)];
    }
    let owners = ledger.subjects_in(stage).map(|subject| ledger.owner(subject));
    let taken = owners.filter(|owner| outlet.takes(stage, owner.names()));
    taken.filter_map(|owner| text.expand_for(ledger, &owner, stage).ok().map(Into::into)).collect()
}

/// What an outlet needs in a stage.
pub fn of_outlet(outlet: &Outlet, ledger: &Ledger, stage: StageId) -> BTreeSet<Named> {
    let mut names = BTreeSet::new();
    let address = |text: &StageText| vec![Named::new(Thing::Address, for_stage(text, ledger, stage))];
    let source = |text: &StageText| {
        let sources = of_each(text, outlet, ledger, stage);
        sources.iter().map(|source| Named::of_source(source)).collect::<Vec<_>>()
    };
    let given = |given: &Given| match given {
        Given::Text(text) => address(text),
        Given::From(text) => source(text),
    };
    match &outlet.kind {
        OutletKind::Directory { path, .. } | OutletKind::Process { pid_file: path } => {
            names.insert(Named::new(Thing::File, for_stage(path, ledger, stage)));
        }
        OutletKind::ByHand { .. } => {}
        OutletKind::Http(http) => {
            names.extend(given(&http.url));
            names.extend(match &http.login {
                HttpLogin::None => Vec::new(),
                HttpLogin::Bearer(token) => source(token),
                HttpLogin::Basic(_, password) => source(password),
                HttpLogin::OAuth(oauth) => [address(&oauth.url), source(&oauth.secret)].concat(),
            });
            let certificate = http.certificate.iter().flat_map(|it| [&it.chain, &it.key]);
            names.extend(certificate.flat_map(source));
            names.extend(http.proxy.iter().flat_map(address));
        }
        OutletKind::Rows(rows) => {
            names.extend(match (&rows.at, rows.database) {
                (Given::Text(path), Database::Sqlite) => {
                    vec![Named::new(Thing::File, for_stage(path, ledger, stage))]
                }
                (at, _) => given(at),
            });
            names.extend(rows.password.iter().flat_map(source));
        }
    }
    let effect = &outlet.effect;
    names.extend(effect.wake.iter().map(|wake| match wake {
        Wake::Program(words) => {
            let words: Vec<String> = words.iter().map(|word| for_stage(word, ledger, stage)).collect();
            Named::new(Thing::Program, words.join(" "))
        }
        Wake::Signal(pid_file, signal) => {
            let pid_file = for_stage(pid_file, ledger, stage);
            Named::new(Thing::Process, format!("{pid_file} {signal}"))
        }
        Wake::Touch(path) => Named::new(Thing::File, for_stage(path, ledger, stage)),
        Wake::Call(url) => Named::new(Thing::Address, for_stage(url, ledger, stage)),
    }));
    names.extend(effect.ready.iter().filter_map(|ready| match ready {
        Ready::Http(text) => Some(Named::new(Thing::Address, for_stage(text, ledger, stage))),
        Ready::File(text) => Some(Named::new(Thing::File, for_stage(text, ledger, stage))),
        // The services of units are named by these.
        Ready::Probe => None,
    }));
    names.extend(effect.pass.iter().map(|name| Named::new(Thing::Variable, name.as_str())));
    names
}

/// What looking a value up needs, where that is no outlet.
pub fn of_look_up(url: &str) -> Named {
    Named::new(Thing::Address, url)
}

/// What trying a service needs.
pub fn of_target(target: &Target) -> BTreeSet<Named> {
    let proxy = match &target.service {
        Service::Http { proxy, .. } => proxy.as_deref(),
        _ => None,
    };
    of_service(&target.host, target.port, proxy)
}

fn of_service(host: &str, port: u16, proxy: Option<&str>) -> BTreeSet<Named> {
    let service = if host.contains(':') { format!("[{host}]:{port}") } else { format!("{host}:{port}") };
    let proxy = proxy.map(|proxy| Named::new(Thing::Address, proxy));
    proxy.into_iter().chain([Named::new(Thing::Service, service)]).collect()
}

/// What the outlets and look-ups of a ledger name: all that stands there without being resolved.
pub fn declared(ledger: &Ledger) -> Names {
    let mut names = Names::new();
    for outlet in &ledger.outlets {
        for stage in ledger.stage_ids().filter(|stage| outlet.stages[usize::from(stage.0)]) {
            for named in of_outlet(outlet, ledger, stage) {
                names.entry(named).or_insert_with(|| format!("outlet {}", outlet.name));
            }
        }
    }
    let conditions = Conditions { looked_up: true, ..Conditions::default() };
    for found in search::settings(ledger, &crate::resolve::Unfetched, &conditions) {
        let look_up = found.setting.and_then(|setting| setting.note.as_ref()?.looked_up.as_ref());
        let Some(LookUp { source: LookUpSource::Address { url, .. }, .. }) = look_up else { continue };
        let stages: Vec<StageId> = match found.written {
            Written::In(LayerId::Stage(stage)) => vec![stage],
            _ => ledger.stage_ids().collect(),
        };
        for stage in stages {
            if let Ok(url) = url.expand(ledger, found.subject, stage) {
                names.entry(of_look_up(&url)).or_insert_with(|| found.address(ledger).to_string());
            }
        }
    }
    names
}

/// The variables that outlets and look-ups name: secrets and addresses come from them.
pub fn variables(ledger: &Ledger) -> impl Iterator<Item = String> + use<> {
    let names = declared(ledger).into_keys().filter(|named| named.thing == Thing::Variable);
    names.map(|named| named.name)
}

/// Everything that a ledger names, settings resolved: what they are fetched from, and the services that their
/// connections and endpoints lead to. `outside` opens cipher texts, and fetches what it may: a host may come from there.
pub fn of_ledger(ledger: &Ledger, outside: &dyn Outside) -> Names {
    let mut names = declared(ledger);
    resolved(ledger, outside, |_, _| true, &mut names);
    names
}

/// The same, with the settings of these owners in these stages alone.
pub fn of_owners(ledger: &Ledger, outside: &dyn Outside, owners: &BTreeSet<(Owner, Name)>) -> Names {
    let mut names = declared(ledger);
    let is_wanted =
        |owner: &Owner, stage: &Name| owners.iter().any(|(known, name)| known == owner && name == stage);
    resolved(ledger, outside, is_wanted, &mut names);
    names
}

fn resolved(
    ledger: &Ledger,
    outside: &dyn Outside,
    is_wanted: impl Fn(&Owner, &Name) -> bool,
    names: &mut Names,
) {
    let recording = Recording { inner: outside, sources: Mutex::default() };
    let resolver = Resolver::new(ledger, &recording, &[]);
    for unit in ledger.unit_ids().map(Some).chain([None]) {
        let mut session = resolver.session(unit);
        for stage in ledger.stage_ids() {
            for subject in subjects(ledger, unit, stage) {
                let (owner, name) = (ledger.owner(subject), &ledger.stage(stage).name);
                if !is_wanted(&owner, name) {
                    continue;
                }
                for slot in ledger.slots(subject).all() {
                    session.outcome(FieldId { subject, stage, slot });
                }
                for source in recording.take() {
                    names.entry(Named::of_source(&source)).or_insert_with(|| format!("{owner}@{name}"));
                }
                for place in places(&mut session, subject, stage) {
                    for named in of_service(&place.host, place.port, place.proxy.as_deref()) {
                        names.entry(named).or_insert_with(|| place.address.clone());
                    }
                }
            }
        }
    }
}

/// The subjects of a unit in a stage; the shared entries for no unit.
fn subjects(ledger: &Ledger, unit: Option<UnitId>, stage: StageId) -> Vec<Subject> {
    unit.map_or_else(|| vec![Subject::Shared], |unit| ledger.unit_subjects_in(unit, stage).collect())
}

/// Writes down what would be fetched.
struct Recording<'o> {
    inner: &'o dyn Outside,
    sources: Mutex<BTreeSet<String>>,
}

impl Recording<'_> {
    fn take(&self) -> BTreeSet<String> {
        std::mem::take(&mut *self.sources.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

impl Outside for Recording<'_> {
    fn fetch(&self, source: &str) -> Fetched {
        self.sources.lock().unwrap_or_else(PoisonError::into_inner).insert(source.to_owned());
        self.inner.fetch(source)
    }

    fn open(&self, scope: &KeyScope, cipher: &Cipher) -> Opened {
        self.inner.open(scope, cipher)
    }
}
