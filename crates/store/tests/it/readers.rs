//! A model of readers: honest people who make, admit, rotate, exclude and set in any order, and somebody who may
//! commit anything.
//!
//! Whatever Mal commits, no honest command encrypts anything that Mal can open: it is refused instead. And where
//! Mal does nothing, no honest command is ever refused. While Mal is a reader, Mal may change keys as readers may.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, OnceLock};

use age::x25519;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use cledger_core::cipher::{Cipher, KeyScope};
use cledger_core::model::{LayerId, Ledger, StageId};
use cledger_core::resolve::Opened;
use cledger_store::{
    Changed, KeyError, Keys, Memory, READERS, Scope, SeenKey, Watch, admit, exclude, key_path,
    known_recipient, make, read, rotate,
};
use proptest::prelude::*;

use crate::keys::{Person, age_identity, id_of, key_file, proof, put, scope, unwrapped, wrapped_for};

/// Two honest people and a third, and Mal, who may be let in for a while.
const NAMES: [&str; 4] = ["ada", "ben", "cam", "mal"];
const MAL: usize = 3;

fn people() -> &'static [Person] {
    static PEOPLE: OnceLock<Vec<Person>> = OnceLock::new();
    PEOPLE.get_or_init(|| NAMES.iter().map(|name| Person::new(name)).collect())
}

#[derive(Debug, Clone)]
enum Step {
    Make(usize),
    Admit(usize, usize),
    Rotate(usize),
    Exclude(usize, usize),
    Set(usize),
    /// Somebody honest looks at the keys, as `key list` does.
    Look(usize),
    /// Mal puts a key file of their own there, for those who are readers now.
    Forge {
        with_mal: bool,
        proof_of_old: bool,
    },
    /// Mal brings a key file back from the past.
    BringBack(usize),
    /// Mal writes their own public key under somebody's name into the list of readers.
    Relist(usize),
    /// Somebody honest puts the last honest key file back.
    Restore,
}

fn step(attacks: bool) -> BoxedStrategy<Step> {
    let person = 0..MAL;
    let honest = prop_oneof![
        1 => person.clone().prop_map(Step::Make),
        3 => (person.clone(), 0..NAMES.len()).prop_map(|(who, whom)| Step::Admit(who, whom)),
        2 => person.clone().prop_map(Step::Rotate),
        2 => (person.clone(), 0..NAMES.len()).prop_map(|(who, whom)| Step::Exclude(who, whom)),
        4 => person.clone().prop_map(Step::Set),
        2 => person.prop_map(Step::Look),
    ];
    if !attacks {
        return honest.boxed();
    }
    prop_oneof![
        6 => honest,
        2 => (any::<bool>(), any::<bool>())
            .prop_map(|(with_mal, proof_of_old)| Step::Forge { with_mal, proof_of_old }),
        2 => (0..8_usize).prop_map(Step::BringBack),
        1 => (0..MAL).prop_map(Step::Relist),
        2 => Just(Step::Restore),
    ]
    .boxed()
}

/// The repository, and what everybody remembers.
struct World {
    files: Memory,
    /// The key file that honest people made last.
    genuine: Option<String>,
    past: Vec<String>,
    /// All that honest people made.
    honest: BTreeSet<String>,
    remembered: Vec<BTreeMap<String, SeenKey>>,
    /// The data keys that Mal knows, by what they are in key files.
    known_to_mal: BTreeSet<Vec<u8>>,
    /// Whether Mal is a reader by an honest command.
    mal_reads: bool,
    attacked: bool,
}

impl World {
    fn new() -> Self {
        let ledger = "format = 1\nname = \"x\"\n[[stage]]\nname = \"test\"\nclass = \"production\"\n";
        let files = Memory(BTreeMap::from([("ledger.toml".to_owned(), ledger.to_owned())]));
        Self {
            files,
            genuine: None,
            past: Vec::new(),
            honest: BTreeSet::new(),
            remembered: vec![BTreeMap::new(); NAMES.len()],
            known_to_mal: BTreeSet::new(),
            mal_reads: false,
            attacked: false,
        }
    }

    fn keys(&self, who: usize) -> Keys<'static> {
        let watch = Watch::new(self.remembered[who].clone(), BTreeSet::from([scope()]));
        people()[who].keys(&self.files).watched(Arc::new(watch))
    }

    fn ledger(&self) -> Ledger {
        read(&self.files, &Scope::Whole).unwrap_or_else(|error| panic!("{error}"))
    }

    fn text(&self) -> Option<&String> {
        self.files.0.get(&key_path(&scope()))
    }

    /// Whether the key file that lies there is the one that honest people made last.
    fn is_genuine(&self) -> bool {
        self.text() == self.genuine.as_ref()
    }

    /// What an honest command came to. One who sees a key for the first time asks the others about it, and says
    /// that it is the right one only if it is.
    fn honest<R>(
        &mut self,
        who: usize,
        command: impl Fn(&Ledger, &Keys<'_>) -> Result<R, KeyError>,
    ) -> Result<Option<R>, TestCaseError> {
        for is_first_try in [true, false] {
            let (ledger, keys) = (self.ledger(), self.keys(who));
            match command(&ledger, &keys) {
                Ok(done) => {
                    self.remembered[who].extend(keys.watch().to_remember());
                    return Ok(Some(done));
                }
                Err(KeyError::FirstSight { .. }) if is_first_try && self.is_genuine() => {
                    let seen = keys.key(&scope()).unwrap().seen();
                    self.remembered[who].insert(scope().to_string(), seen);
                }
                Err(error @ (KeyError::Unexplained { .. } | KeyError::FirstSight { .. })) => {
                    prop_assert!(self.attacked, "{} is refused, and nobody attacked: {error}", NAMES[who]);
                    return Ok(None);
                }
                // Not a reader, a reader already, the last one: what any command may say.
                Err(_) => return Ok(None),
            }
        }
        Ok(None)
    }

    /// Takes an honest change over.
    fn commit(&mut self, changed: Changed) {
        self.past.extend(self.text().cloned());
        self.files = put(std::mem::take(&mut self.files), changed);
        self.genuine = self.text().cloned();
        self.honest.extend(self.genuine.clone());
        self.learn();
    }

    /// What Mal can open now, Mal knows.
    fn learn(&mut self) {
        let Some(text) = self.text() else { return };
        let identity = age_identity(&people()[MAL]);
        let is_for_mal = age::Decryptor::new(age::armor::ArmoredReader::new(text.as_bytes()))
            .is_ok_and(|it| it.decrypt(std::iter::once(&identity as &dyn age::Identity)).is_ok());
        if is_for_mal {
            self.known_to_mal.insert(data_key(&unwrapped(text, &identity)));
        }
    }

    fn take(&mut self, step: &Step) -> Result<(), TestCaseError> {
        let all = [scope()];
        match step {
            Step::Make(who) => {
                let reader = people()[*who].reader.clone();
                let made =
                    self.honest(*who, |_, keys| make(keys, &all, std::slice::from_ref(&reader), None))?;
                if let Some(changed) = made {
                    self.commit(changed);
                }
            }
            Step::Admit(who, whom) => {
                let reader = &people()[*whom].reader;
                let admitted = self.honest(*who, |_, keys| {
                    // By what the others say, or by a key file that can be trusted: never another's key.
                    if let Some(known) = known_recipient(keys, &all, &reader.name) {
                        assert!(
                            known == reader.recipient,
                            "somebody else's key is taken for {}'s",
                            reader.name
                        );
                    }
                    admit(keys, &all, reader)
                })?;
                if let Some((changed, _)) = admitted {
                    self.mal_reads |= *whom == MAL;
                    self.commit(changed);
                }
            }
            Step::Rotate(who) => {
                let rotated = self.honest(*who, |ledger, keys| rotate(ledger, keys, &all))?;
                if let Some((changed, _)) = rotated {
                    self.commit(changed);
                }
            }
            Step::Exclude(who, whom) => {
                let name = &people()[*whom].reader.name;
                let excluded = self.honest(*who, |ledger, keys| exclude(ledger, keys, &all, name))?;
                if let Some((changed, _)) = excluded {
                    self.commit(changed);
                    if *whom == MAL {
                        self.mal_reads = false;
                        // Whoever has not seen an exclusion can be fooled by who was excluded: they all look.
                        (0..MAL).try_for_each(|who| self.take(&Step::Look(who)))?;
                    }
                }
            }
            Step::Set(who) => {
                let sealed = self.honest(*who, |_, keys| keys.seal(&scope(), "desk/gate.token", "plover"))?;
                if let Some(text) = sealed {
                    prop_assert!(
                        self.mal_reads || self.text().is_some_and(|text| self.honest.contains(text)),
                        "{} wrote under a key that no honest command made",
                        NAMES[*who]
                    );
                    let opens = self.known_to_mal.iter().any(|key| opens(key, &text));
                    prop_assert!(self.mal_reads || !opens, "Mal opens what {} wrote", NAMES[*who]);
                }
            }
            Step::Look(who) => {
                let keys = self.keys(*who);
                let _ = keys.key(&scope());
                self.remembered[*who].extend(keys.watch().to_remember());
                // Production keys are looked at with the others; what they say is right is kept.
                if self.is_genuine()
                    && let Ok(file) = keys.key(&scope())
                {
                    self.remembered[*who].insert(scope().to_string(), file.seen());
                }
            }
            Step::Forge { with_mal, proof_of_old } => self.forge(*with_mal, *proof_of_old),
            Step::BringBack(at) => {
                if let Some(text) = self.past.get(*at).cloned() {
                    self.attacked = true;
                    self.files.0.insert(key_path(&scope()), text);
                    self.learn();
                }
            }
            Step::Relist(whom) => {
                self.attacked = true;
                if let Some(list) = self.files.0.get(READERS) {
                    let (theirs, mals) = (&people()[*whom].reader.recipient, &people()[MAL].reader.recipient);
                    let list = list.replace(&theirs.to_string(), &mals.to_string());
                    self.files.0.insert(READERS.to_owned(), list);
                }
            }
            Step::Restore => {
                if let Some(text) = self.genuine.clone() {
                    self.files.0.insert(key_path(&scope()), text);
                }
            }
        }
        Ok(())
    }

    /// A key file of Mal's own, as good as Mal can make it.
    fn forge(&mut self, with_mal: bool, proof_of_old: bool) {
        self.attacked = true;
        let key = blake3::hash(self.past.len().to_string().as_bytes()).as_bytes().to_vec();
        let readers = if with_mal { people() } else { &people()[..MAL] };
        let mut body = "generation 900\n".to_owned();
        for person in readers {
            body.push_str(&format!("reader {} {}\n", person.reader.name, person.reader.recipient));
        }
        let mut rest = proof(&key, &key, &body);
        for old in self.known_to_mal.iter().filter(|_| proof_of_old) {
            rest.push_str(&proof(old, &key, &body));
        }
        // The id of the honest key, with a proof that is made of nothing.
        for seen in self.remembered.iter().flat_map(BTreeMap::values) {
            rest.push_str(&format!("proof {} {}\n", seen.id, "00".repeat(32)));
        }
        assert_ne!(id_of(&key), id_of(&[0; 32]));
        let recipients: Vec<x25519::Recipient> =
            readers.iter().map(|person| age_identity(person).to_public()).collect();
        let recipients: Vec<&dyn age::Recipient> =
            recipients.iter().map(|recipient| recipient as &dyn age::Recipient).collect();
        self.files.0.insert(key_path(&scope()), wrapped_for(&key_file(&key, &body, &rest), &recipients));
        self.known_to_mal.insert(key);
    }
}

/// The data key in the text of a key file.
fn data_key(content: &str) -> Vec<u8> {
    let line = content.lines().find_map(|line| line.strip_prefix("key ")).unwrap();
    URL_SAFE_NO_PAD.decode(line).unwrap()
}

/// Whether a data key opens a cipher text, by a key file that Mal makes for it.
fn opens(key: &[u8], text: &str) -> bool {
    let mal = &people()[MAL];
    let body = format!("generation 1\nreader mal {}\n", mal.reader.recipient);
    let file = key_file(key, &body, &proof(key, key, &body));
    let file = wrapped_for(&file, &[&age_identity(mal).to_public()]);
    let files = Memory(BTreeMap::from([(key_path(&scope()), file)]));
    let address = "desk/gate.token".to_owned();
    let cipher = Cipher { text: text.into(), layer: LayerId::Stage(StageId(0)), address };
    matches!(mal.keys(&files).open(&KeyScope::Stage("test".parse().unwrap()), &cipher), Opened::Text(_))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn whatever_is_committed_nobody_writes_what_mal_can_open(
        steps in prop::collection::vec(step(true), 1..24),
    ) {
        let mut world = World::new();
        // There is something to attack.
        for step in [Step::Make(0), Step::Admit(0, 1), Step::Look(1), Step::Set(1)].iter().chain(&steps) {
            world.take(step)?;
        }
    }

    #[test]
    fn honest_people_alone_are_never_refused(steps in prop::collection::vec(step(false), 1..24)) {
        let mut world = World::new();
        for step in &steps {
            world.take(step)?;
        }
    }
}
