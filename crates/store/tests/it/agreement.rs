//! The resolver and the naive implementation agree on every field of random ledgers.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::address::{Address, Owner};
use cledger_core::cipher::{Cipher, KeyScope};
use cledger_core::model::{LayerId, Ledger, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{Assumption, Fetched, FieldId, Opened, Origin, Outcome, Outside, Resolver};
use cledger_store::{
    Changed, Edit, Memory, Named, Renaming, Scope, Target, What, apply, read, read_partly, rename, setting,
};
use proptest::prelude::*;
use zeroize::Zeroizing;

use crate::naive::{From, Key, Naive, Out};
use crate::random::{Assumed, Description, Setting, Tape, Who, fixed_tape};
use crate::written::{saying, write};

fn fetch(source: &str) -> Option<String> {
    match source {
        "env:TEXT" => Some("one.example".to_owned()),
        "env:NUMBER" => Some("7".to_owned()),
        "file:dev" => Some("from a file".to_owned()),
        _ => None,
    }
}

pub(crate) struct Pretended;

impl Outside for Pretended {
    fn fetch(&self, source: &str) -> Fetched {
        match fetch(source) {
            Some(text) => Fetched::Text(Zeroizing::new(text)),
            None => Fetched::Nothing("it is not there".to_owned()),
        }
    }

    fn open(&self, _scope: &KeyScope, _cipher: &Cipher) -> Opened {
        Opened::NoKey
    }
}

pub(crate) fn read_all(files: &Memory) -> Ledger {
    read(files, &Scope::Whole).unwrap_or_else(|unreadable| {
        let messages: Vec<_> = unreadable.mistakes.iter().map(|mistake| &mistake.message).collect();
        panic!("{unreadable}: {messages:?}\n{:#?}", files.0)
    })
}

fn who(ledger: &Ledger, subject: Subject) -> Who {
    match ledger.owner(subject) {
        Owner::Shared => Who::Shared,
        Owner::Unit(unit, instance) => Who::Unit(unit.to_string(), instance.map(|name| name.to_string())),
    }
}

fn from(ledger: &Ledger, origin: Origin) -> From {
    let place = origin.place.map(|place| {
        let found = ledger.files.locate(place);
        (found.file.to_owned(), found.line, found.column)
    });
    (origin.layer.word(), origin.layer.name(ledger).map(str::to_owned), place)
}

pub(crate) fn simplified(ledger: &Ledger, outcome: &Outcome<'_>) -> Out {
    match outcome {
        Outcome::Value(effective) => Out::Value {
            value: effective.expose().unwrap().to_json(),
            secret: effective.is_secret(),
            from: from(ledger, effective.origin),
        },
        Outcome::Absent(origin) => Out::Absent(from(ledger, *origin)),
        Outcome::Unset => Out::Unset,
        Outcome::Missing(..) => Out::Missing,
        Outcome::Broken(problems) => {
            let codes: BTreeSet<_> = problems.iter().map(|problem| problem.code.name()).collect();
            assert_eq!(codes.len(), problems.len(), "each code once");
            Out::Problems(codes)
        }
    }
}

fn assumptions(ledger: &Ledger, assumed: &[Assumed]) -> Vec<Assumption> {
    let name = |text: &str| Name::parse(text).unwrap();
    let mut given: Vec<Assumption> = assumed
        .iter()
        .map(|assumed| {
            let owner = match &assumed.who {
                Who::Shared => Owner::Shared,
                Who::Unit(unit, instance) => Owner::Unit(name(unit), instance.as_deref().map(name)),
            };
            let (entry, field) = (name(&assumed.entry), assumed.field.as_deref().map(name));
            let stage = name(&assumed.stage);
            let address = Address::of_field(owner, &entry, field.as_ref(), Some(&stage));
            let stage = ledger.stage_id(&assumed.stage).unwrap();
            Assumption::new(ledger, &address, &assumed.text, stage).unwrap()
        })
        .collect();
    given.sort_by_key(Assumption::strength);
    given
}

/// Every field of everybody in every stage: what it is, and what it comes to.
pub(crate) fn everything(ledger: &Ledger, assumed: &[Assumed]) -> Vec<(Key, Out)> {
    let assumptions = assumptions(ledger, assumed);
    let resolver = Resolver::new(ledger, &Pretended, &assumptions);
    let mut found = Vec::new();
    for stage in ledger.stage_ids() {
        for subject in ledger.subjects_in(stage).chain([Subject::Shared]) {
            let home = match subject {
                Subject::Unit(unit, _) => Some(unit),
                Subject::Shared => None,
            };
            let mut session = resolver.session(home);
            for slot in ledger.slots(subject).all() {
                let (entry, declaration) = ledger.field(subject, slot);
                let key = Key {
                    who: who(ledger, subject),
                    stage: ledger.stage(stage).name.to_string(),
                    entry: entry.name.to_string(),
                    field: declaration.name.as_ref().map(ToString::to_string),
                };
                let outcome = session.outcome(FieldId { subject, stage, slot });
                found.push((key, simplified(ledger, &outcome)));
            }
        }
    }
    found
}

/// How many fields somebody has in the stages where they belong.
fn expected_count(made: &Description, naive: &Naive<'_>) -> usize {
    let fields = |entry: &crate::random::Entry| entry.fields.len();
    let shared: usize = made.shared.iter().map(fields).sum::<usize>() * made.stages.len();
    let mut units = 0;
    for unit in &made.units {
        let used = made.shared.iter().filter(|entry| unit.uses.contains(&entry.name));
        let each: usize = unit.entries.iter().chain(used).map(fields).sum();
        let everybody =
            std::iter::once(None).chain(unit.instances.iter().map(|(name, _)| Some(name.clone())));
        for instance in everybody {
            let who = Who::Unit(unit.name.clone(), instance);
            units += each * made.stages.iter().filter(|stage| naive.belongs(&who, &stage.name)).count();
        }
    }
    shared + units
}

/// The agreement is worth something only if the random ledgers meet every rule.
#[test]
fn random_ledgers_meet_every_layer_outcome_and_problem() {
    let mut met = BTreeSet::new();
    for seed in 0..150 {
        let made = Description::from_tape(&mut Tape::new(&fixed_tape(seed, 900)));
        let ledger = read_all(&write(&made).0);
        for (key, out) in everything(&ledger, &made.assumed) {
            if matches!(key.who, Who::Unit(_, Some(_))) {
                met.insert("instance".to_owned());
            }
            match out {
                Out::Value { value, from, secret } => {
                    if matches!(key.entry.as_str(), "fares" | "quays")
                        && value.as_object().is_some_and(|it| !it.is_empty())
                    {
                        met.insert(format!("table from {}", from.0));
                    }
                    met.insert(format!("{} value", if secret { "secret" } else { "open" }));
                    met.insert(format!("from {}", from.0));
                }
                Out::Absent(_) => drop(met.insert("absent".to_owned())),
                Out::Unset => drop(met.insert("unset".to_owned())),
                Out::Missing => drop(met.insert("missing".to_owned())),
                Out::Problems(codes) => met.extend(codes.into_iter().map(str::to_owned)),
            }
        }
    }
    let expected = [
        "absent",
        "from default",
        "from derived",
        "from follow",
        "from group",
        "from run",
        "from stage",
        "instance",
        "missing",
        "open value",
        "reference-circle",
        "reference-unknown",
        "secret value",
        "table from default",
        "table from follow",
        "table from group",
        "table from stage",
        "unset",
        "wrong-type",
    ];
    assert_eq!(met.iter().map(String::as_str).collect::<Vec<_>>(), expected);
}

pub(crate) fn without_places(mut found: Vec<(Key, Out)>) -> Vec<(Key, Out)> {
    for (_, out) in &mut found {
        if let Out::Value { from, .. } | Out::Absent(from) = out {
            from.2 = None;
        }
    }
    found
}

/// Files with changes made.
fn changed(files: &Memory, changed: Changed) -> Memory {
    let mut files = files.clone();
    for (path, text) in changed {
        match text {
            Some(text) => drop(files.0.insert(path, text)),
            None => drop(files.0.remove(&path)),
        }
    }
    files
}

/// The change of a setting that a description speaks of.
fn edit_of(ledger: &Ledger, set: &Setting, what: What) -> Edit {
    let layer = match ledger.group_id(&set.layer) {
        Some(group) => LayerId::Group(group),
        None => LayerId::Stage(ledger.stage_id(&set.layer).unwrap()),
    };
    let subject = match &set.who {
        Who::Shared => Subject::Shared,
        Who::Unit(unit, instance) => {
            let id = ledger.unit_id(unit).unwrap();
            Subject::Unit(id, instance.as_deref().map(|name| ledger.unit(id).instance(name).unwrap()))
        }
    };
    let slot = ledger.find_slot(subject, &set.entry, set.field.as_deref()).unwrap();
    setting(ledger, Target::Layer(layer), subject, slot, what)
}

/// Everything in a description that can have another name.
fn nameable(made: &Description) -> Vec<Named> {
    let name = |text: &str| Name::parse(text).unwrap();
    let mut all: Vec<Named> = made.stages.iter().map(|stage| Named::Stage(name(&stage.name))).collect();
    all.extend(["common", "guarded"].map(|group| Named::Group(name(group))));
    let shared = made.shared.iter().map(|entry| (Owner::Shared, entry));
    let own = made
        .units
        .iter()
        .flat_map(|unit| unit.entries.iter().map(|entry| (Owner::Unit(name(&unit.name), None), entry)));
    for (owner, entry) in shared.chain(own) {
        all.push(Named::Entry(owner.clone(), name(&entry.name)));
        if entry.fields.iter().any(|field| field.name.as_deref() == Some("extra")) {
            all.push(Named::Field(owner, name(&entry.name), name("extra")));
        }
    }
    for unit in &made.units {
        all.push(Named::Unit(name(&unit.name)));
        all.extend(
            unit.instances.iter().map(|(instance, _)| Named::Instance(name(&unit.name), name(instance))),
        );
    }
    all
}

/// A field and what it comes to, once something has the name `renamed`.
fn under_the_new_name(made: &Description, what: &Named, (mut key, mut out): (Key, Out)) -> (Key, Out) {
    let new = || "renamed".to_owned();
    let of_shared = |key: &Key, entry: &Name| {
        key.entry == entry.as_str()
            && match &key.who {
                Who::Shared => true,
                Who::Unit(unit, _) => {
                    made.units.iter().any(|known| known.name == *unit && known.uses.contains(&key.entry))
                }
            }
    };
    let meant = |key: &Key, owner: &Owner, entry: &Name| match (owner, &key.who) {
        (Owner::Shared, _) => of_shared(key, entry),
        (Owner::Unit(unit, _), Who::Unit(known, _)) => {
            known == unit.as_str() && key.entry == entry.as_str() && !of_shared(key, entry)
        }
        (Owner::Unit(..), Who::Shared) => false,
    };
    match what {
        // No key has their names.
        Named::Outlet(_) | Named::Rule(_) => {}
        Named::Stage(old) | Named::Group(old) => {
            if key.stage == old.as_str() {
                key.stage = new();
            }
            if let Out::Value { from, .. } | Out::Absent(from) = &mut out
                && from.1.as_deref() == Some(old.as_str())
            {
                from.1 = Some(new());
            }
        }
        Named::Unit(old) => {
            if let Who::Unit(unit, _) = &mut key.who
                && unit == old.as_str()
            {
                *unit = new();
            }
        }
        Named::Instance(of, old) => {
            if let Who::Unit(unit, Some(instance)) = &mut key.who
                && unit == of.as_str()
                && instance == old.as_str()
            {
                *instance = new();
            }
        }
        Named::Entry(owner, old) => {
            if meant(&key, owner, old) {
                key.entry = new();
            }
        }
        Named::Field(owner, entry, old) => {
            if meant(&key, owner, entry) && key.field.as_deref() == Some(old.as_str()) {
                key.field = Some(new());
            }
        }
    }
    (key, out)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1500, ..ProptestConfig::default() })]

    #[test]
    fn both_implementations_agree(choices in proptest::collection::vec(any::<u16>(), 0..900)) {
        let made = Description::from_tape(&mut Tape::new(&choices));
        let (files, spots) = write(&made);
        let ledger = read_all(&files);
        let naive = Naive::new(&made, &spots, fetch);
        let found = everything(&ledger, &made.assumed);
        prop_assert_eq!(found.len(), expected_count(&made, &naive));
        for (key, out) in found {
            let expected = naive.out(&key);
            prop_assert_eq!(&out, &expected, "{:?}\n{:#?}", key, files.0);
        }
    }

    #[test]
    fn one_file_or_a_folder_makes_no_difference(choices in proptest::collection::vec(any::<u16>(), 0..600)) {
        let mut made = Description::from_tape(&mut Tape::new(&choices));
        let mut read_in = |folders: &[&str]| {
            made.folders = folders.iter().map(|name| (*name).to_owned()).collect();
            without_places(everything(&read_all(&write(&made).0), &made.assumed))
        };
        let in_files = read_in(&[]);
        let in_folders = read_in(&["dev", "test", "north", "south", "common", "guarded"]);
        prop_assert_eq!(in_files, in_folders);
    }

    #[test]
    fn what_is_set_counts_and_what_is_unset_leaves_no_trace(
        choices in proptest::collection::vec(any::<u16>(), 0..600),
        more in proptest::collection::vec(any::<u16>(), 8),
    ) {
        let made = Description::from_tape(&mut Tape::new(&choices));
        let files = write(&made).0;
        let ledger = read_all(&files);
        let Some(set) = made.another_setting(&mut Tape::new(&more)) else { return Ok(()) };
        let edit = edit_of(&ledger, &set, What::Set(saying(&set.says)));
        let with = changed(&files, apply(&files, &[edit]).unwrap());
        let mut described = made.clone();
        described.settings.push(set.clone());
        let spots = write(&described).1;
        let naive = Naive::new(&described, &spots, fetch);
        let found = without_places(everything(&read_all(&with), &made.assumed));
        for (key, out) in found {
            let expected = without_places(vec![(key.clone(), naive.out(&key))]);
            prop_assert_eq!(&out, &expected[0].1, "{:?} after {:?}", key, set);
        }
        let edit = edit_of(&ledger, &set, What::Remove);
        let without = changed(&with, apply(&with, &[edit]).unwrap());
        prop_assert_eq!(without.0, files.0);
    }

    #[test]
    fn another_name_changes_no_value(
        choices in proptest::collection::vec(any::<u16>(), 0..600),
        which in any::<proptest::sample::Index>(),
    ) {
        let mut made = Description::from_tape(&mut Tape::new(&choices));
        // Patterns that match by a part of a name may come to cover less, and that is right.
        for follow in made.stages.iter_mut().flat_map(|stage| &mut stage.follows) {
            let whole = |pattern: &String| pattern.starts_with("desk") || pattern.starts_with("shared/*");
            follow.only.retain(whole);
            follow.except.retain(whole);
        }
        let mut files = write(&made).0;
        for text in files.0.values_mut() {
            for name in ["${stage.name}", "${unit.name}", "${unit.instance}"] {
                *text = text.replace(name, "x");
            }
        }
        let ledger = read_all(&files);
        let all = nameable(&made);
        let what = all[which.index(all.len())].clone();
        let to = Name::parse("renamed").unwrap();
        let changes = rename(&ledger, &Renaming { what: what.clone(), to }).unwrap();
        let after = read_all(&changed(&files, changes));
        let sorted = |ledger: &Ledger| {
            let mut found = without_places(everything(ledger, &[]));
            found.sort_by(|a, b| a.0.cmp(&b.0));
            found
        };
        let mut expected: Vec<(Key, Out)> =
            sorted(&ledger).into_iter().map(|found| under_the_new_name(&made, &what, found)).collect();
        expected.sort_by(|a, b| a.0.cmp(&b.0));
        prop_assert_eq!(sorted(&after), expected, "{:?}\n{:#?}", what, files.0);
    }

    /// Whatever file cannot be read: the rest has the values that it has with that file, or none.
    #[test]
    fn no_value_is_another_for_a_file_that_cannot_be_read(
        tape in proptest::collection::vec(any::<u16>(), 300..900),
        which in any::<prop::sample::Index>(),
    ) {
        let made = Description::from_tape(&mut Tape::new(&tape));
        let files = write(&made).0;
        let whole: BTreeMap<Key, Out> = everything(&read_all(&files), &[]).into_iter().collect();
        let may_break = |path: &&String| ["units/", "stages/", "groups/"].iter().any(|it| path.starts_with(it));
        let paths: Vec<String> = files.0.keys().filter(may_break).cloned().collect();
        let path = which.get(&paths);
        let mut broken = files.clone();
        broken.0.insert(path.clone(), "[broken\n".to_owned());
        let ledger = read_partly(&broken, &Scope::Whole).unwrap();
        prop_assert_eq!(ledger.broken.0.iter().map(|file| &file.path).collect::<Vec<_>>(), [path]);
        for (key, out) in everything(&ledger, &[]) {
            // What goes around in a circle has no value either way.
            let is_not_known = matches!(&out, Out::Problems(codes) if codes.contains("unreadable-file") || codes.contains("reference-circle"));
            prop_assert!(is_not_known || whole.get(&key) == Some(&out), "{:?}: {:?}, {:?}", key, out, whole.get(&key));
        }
    }
}
