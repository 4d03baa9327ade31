//! A unit that gets another name keeps its history, and what lies under the old one is taken off.

use cledger_core::delivery::InStage;
use cledger_core::name::Name;
use cledger_core::resolve::{FieldId, Outcome};
use cledger_store::{Disk, Scope, read};
use cledger_work::deliver::withdraw::{ToWithdraw, withdraw};
use cledger_work::deliver::{Delivered, ToDeliver, chores, deliver, history, status};
use cledger_work::drift::{ToLookAt, drift};
use cledger_work::keys::{KeyChange, ToMake, identity, make};
use cledger_work::rename::{ToRename, rename};
use cledger_work::{Kind, Trouble};

use crate::workplaces::{Place, address, asked, because, pattern, whole};

const DESK: &str = "[variables.hold]\ndefault = \"5m\"\n[credentials.gate]\nform = \"token\"\n\
     [[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n\
     [[chore]]\ntext = \"Tell the quay\"\nwhen = \"first-delivery\"\n";
const DEV: &str = "[units.desk]\nhold = \"1m\"\ngate.token = \"plover-17\"\n";

fn place(has_kiosk: bool, manifest: impl Fn(String) -> String) -> Place {
    let place = Place::new(&[("units/desk.toml", DESK), ("stages/dev.toml", DEV), ("stages/test.toml", DEV)]);
    if has_kiosk {
        place.write("units/desk.toml", &format!("{DESK}[instances.kiosk]\n"));
    }
    place.write("ledger.toml", &manifest(place.read("ledger.toml")));
    identity(&place.at, true).unwrap();
    let stages = ["@dev", "@test"].map(str::to_owned).to_vec();
    let change = KeyChange { stages, consent: because(&[]), write: true };
    let name = Some(Name::parse("ada").unwrap());
    make(&place.change(), &ToMake { change: change.clone(), name, readers: Vec::new(), passphrase: None })
        .unwrap();
    cledger_work::keys::protect(&place.change(), &change).unwrap();
    for of in ["desk@dev", "desk@test", "desk+kiosk@dev"].iter().take(if has_kiosk { 3 } else { 2 }) {
        chores::done(&place.open(), &pattern(of), "Tell", true).unwrap();
    }
    place
}

fn called(place: &Place, from: &str, to: &str) -> Result<(), Trouble> {
    let (address, to) = (address(from), Name::parse(to).unwrap());
    let asked = ToRename { address, to, outputs: true, consent: because(&[]), write: true };
    rename(&place.change(), &asked).map(drop)
}

fn to(place: &Place, unit: &str, stage: &str) -> Result<Delivered, Trouble> {
    deliver(&place.open(), &asked(&[unit], stage))
}

fn number(delivered: &Delivered) -> Option<u64> {
    delivered.deliveries[0].recorded.as_ref().map(|record| record.meta.number)
}

/// The deliveries and withdrawals that somebody is told of.
fn told(place: &Place, of: &str) -> Vec<String> {
    let history = history::history(&place.open(), &[of.to_owned()], 20).unwrap();
    let meta = history.records.into_iter().map(|entry| entry.meta);
    meta.filter(|meta| meta.chore.is_none()).map(|meta| format!("{}:{}", meta.unit, meta.number)).collect()
}

fn stands(place: &Place, unit: &str) -> InStage {
    let status = status::status(&place.open(), &[], false).unwrap();
    let standing = status.standings.iter().find(|standing| standing.owner == unit).unwrap();
    standing.stages[0].as_ref().unwrap().what
}

fn is_clean(place: &Place) -> bool {
    let looked = ToLookAt { addresses: vec!["@dev".to_owned()], ..ToLookAt::default() };
    drift(&place.at, &looked).unwrap().kind().is_none()
}

#[test]
fn a_renamed_unit_keeps_its_history_and_leaves_nothing_behind() {
    let place = place(true, |manifest| manifest);
    to(&place, "desk", "dev").unwrap();
    // With its quotes: two letters alone may stand in a cipher text.
    place.write("stages/dev.toml", &place.read("stages/dev.toml").replace("\"1m\"", "\"2m\""));
    let both = deliver(&place.open(), &asked(&[], "dev")).unwrap();
    assert_eq!(both.kind(), None, "{:?}", both.deliveries);
    called(&place, "desk", "booth").unwrap();
    called(&place, "booth", "stand").unwrap();
    assert!(place.read("units/stand.toml").starts_with("formerly = [\"desk\", \"booth\"]\n"));
    assert_eq!(told(&place, "stand@dev"), ["desk:1", "desk:2", "desk+kiosk:1"]);
    assert_eq!(stands(&place, "stand"), InStage::Delivered(2));
    assert!(!is_clean(&place), "nothing is under the new name yet");
    // What was tested and done under the old name was tested and done.
    assert_eq!(number(&to(&place, "stand", "test").unwrap()), Some(1));

    // An edit by hand is nobody's to take off, and does not hold up what comes.
    let old = place.path("../live/dev/desk/desk.env");
    let ours = place.read("../live/dev/desk/desk.env");
    place.write("../live/dev/desk/desk.env", &ours.replace("2m", "9m"));
    let delivered = to(&place, "stand", "dev").unwrap();
    assert_eq!(number(&delivered), Some(3));
    assert_eq!(delivered.left_over[0].trouble.as_ref().unwrap().kind(), Kind::Refused);
    assert!(old.exists() && place.read("../live/dev/stand/desk.env") == ours);
    place.write("../live/dev/desk/desk.env", &ours);
    deliver(&place.open(), &asked(&[], "dev")).unwrap();
    assert!(!old.exists() && !place.path("../live/dev/desk+kiosk").exists() && is_clean(&place));

    // Each number is one delivery, whatever the unit was called then.
    assert_eq!(stands(&place, "stand"), InStage::Delivered(3));
    let first = history::recorded(&place.open(), &address("stand@dev:1")).unwrap();
    assert_eq!((first.record.meta.unit.as_str(), first.record.meta.number), ("desk", 1));
    let again = ToDeliver { again: Some(1), ..asked(&["stand"], "dev") };
    assert_eq!(number(&deliver(&place.open(), &again).unwrap()), Some(4));
    assert_eq!(place.read("../live/dev/stand/desk.env"), ours.replace("2m", "1m"));
    take_off(&place, "stand@dev").unwrap();
    assert!(!place.path("../live/dev/stand/desk.env").exists());
    assert_eq!(stands(&place, "stand"), InStage::Withdrawn);
    assert!(take_off(&place, "stand@dev").is_err());
}

fn take_off(place: &Place, of: &str) -> Result<(), Trouble> {
    let asked = ToWithdraw { consent: because(&[]), write: true, ..ToWithdraw::default() };
    withdraw(&place.open(), &whole(of), &asked).map(drop)
}

#[test]
fn what_was_never_brought_under_the_new_name_is_withdrawn_under_the_old_one() {
    let place = place(false, |manifest| manifest);
    to(&place, "desk", "dev").unwrap();
    called(&place, "desk", "stand").unwrap();
    take_off(&place, "stand@dev").unwrap();
    assert!(!place.path("../live/dev/desk/desk.env").exists());
    assert_eq!(stands(&place, "stand"), InStage::Withdrawn);
    assert!(is_clean(&place));
}

#[test]
fn a_place_that_does_not_tell_the_name_is_handed_on() {
    let at = "path = \"../live/${stage.name}/desk${unit.instance}\"\nunits = [\"desk\"]";
    let place = place(false, |manifest| manifest.replace("path = \"../live/${stage.name}\"", at));
    to(&place, "desk", "dev").unwrap();
    called(&place, "desk", "stand").unwrap();
    assert!(is_clean(&place), "it is there, and as the ledger says");
    // What somebody edits there is an edit of what was brought under the old name.
    let ours = place.read("../live/dev/desk/desk.env");
    place.write("../live/dev/desk/desk.env", &ours.replace("1m", "9m"));
    let refused = to(&place, "stand", "dev").unwrap_err();
    assert!(refused.to_string().contains("edited by hand since delivery 1"), "{refused}");
    place.write("../live/dev/desk/desk.env", &ours);
    let delivered = to(&place, "stand", "dev").unwrap();
    assert_eq!(number(&delivered), Some(2));
    assert_eq!(delivered.left_over[0].brought[0].word(), "handed on");
    assert!(is_clean(&place) && place.read("../live/dev/desk/desk.env") == ours);
    assert_eq!(stands(&place, "stand"), InStage::Delivered(2));
    // Nothing more is left over of it, and a withdrawal takes off what is there.
    assert!(deliver(&place.open(), &asked(&[], "dev")).unwrap().left_over.is_empty());
    take_off(&place, "stand@dev").unwrap();
    assert!(!place.path("../live/dev/desk/desk.env").exists() && is_clean(&place));
}

#[test]
fn a_renamed_stage_keeps_its_history() {
    let stay = |manifest: String| {
        let manifest =
            manifest.replace("path = \"../live/${stage.name}\"", "path = \"../live/${stage.label.at}\"");
        ["dev", "test", "prod"].iter().fold(manifest, |text, name| {
            text.replace(
                &format!("name = \"{name}\"\n"),
                &format!("name = \"{name}\"\nlabels.at = \"{name}\"\n"),
            )
        })
    };
    let place = place(false, stay);
    to(&place, "desk", "dev").unwrap();
    place.write("stages/dev.toml", &place.read("stages/dev.toml").replace("\"1m\"", "\"2m\""));
    to(&place, "desk", "dev").unwrap();
    called(&place, "@dev", "develop").unwrap();
    called(&place, "desk", "stand").unwrap();
    called(&place, "@develop", "making").unwrap();
    assert!(
        place.read("ledger.toml").contains("formerly = [\"dev\", \"develop\"]"),
        "{}",
        place.read("ledger.toml")
    );
    assert_eq!(told(&place, "@making"), ["desk:1", "desk:2"]);
    assert_eq!(told(&place, "stand@making"), ["desk:1", "desk:2"]);
    assert_eq!(stands(&place, "stand"), InStage::Delivered(2));
    // Secrets that were recorded under the old names open, also after the key is another one.
    let change = KeyChange { stages: vec!["@making".to_owned()], consent: because(&[]), write: true };
    for _ in 0..2 {
        let first = history::recorded(&place.open(), &address("stand@making:1")).unwrap();
        assert_eq!((first.record.meta.unit.as_str(), first.record.meta.stage.as_str()), ("desk", "dev"));
        assert!(history::verified(&place.open()).unwrap().kind().is_none());
        let again = ToDeliver { again: Some(1), write: false, ..asked(&["stand"], "making") };
        assert_eq!(deliver(&place.open(), &again).unwrap().kind(), None);
        cledger_work::keys::rotate(&place.change(), &change).unwrap();
    }
    // What was tested under the old name was tested, and the numbers go on.
    assert_eq!(number(&to(&place, "stand", "test").unwrap()), Some(1));
    assert_eq!(number(&to(&place, "stand", "making").unwrap()), Some(3));
    take_off(&place, "stand@making").unwrap();
    assert_eq!(stands(&place, "stand"), InStage::Withdrawn);
    let refused = to(&place, "stand", "dev").unwrap_err();
    assert!(refused.to_string().contains("stage `dev` is called `making` now"), "{refused}");
    let refused = called(&place, "@test", "dev").unwrap_err();
    assert!(refused.to_string().contains("`dev` is a former name of `making`"), "{refused}");
}

#[test]
fn where_a_place_has_the_name_of_the_stage_what_was_there_is_told() {
    let place = place(false, |manifest| manifest);
    to(&place, "desk", "dev").unwrap();
    called(&place, "@dev", "develop").unwrap();
    std::fs::create_dir_all(place.path("../live/develop")).unwrap();
    // Nothing of it is at the new place, and nobody has taken it away there.
    let delivered = to(&place, "desk", "develop").unwrap();
    assert_eq!(number(&delivered), Some(2));
    assert!(
        place.path("../live/dev/desk/desk.env").exists()
            && place.path("../live/develop/desk/desk.env").exists()
    );
}

#[test]
fn a_name_leads_to_one_unit() {
    let place = place(false, |manifest| manifest);
    called(&place, "desk", "stand").unwrap();
    place.write("units/lamp.toml", "about = \"A lamp\"\n");
    let refused = called(&place, "lamp", "desk").unwrap_err();
    assert!(refused.to_string().contains("`desk` is a former name of `stand`"), "{refused}");
    // Back to the old name is no former name any more.
    called(&place, "stand", "desk").unwrap();
    assert!(place.read("units/desk.toml").starts_with("formerly = [\"stand\"]\n"));
    for (text, wrong) in [
        ("formerly = [\"desk\"]\n", "`desk` is a unit of the ledger, so `lamp` cannot have been called so"),
        ("formerly = [\"stand\"]\n", "`stand` is a former name of `desk`, too"),
        ("formerly = [\"lamp\"]\n", "`lamp` is the unit's name now"),
        ("formerly = [\"a\", \"a\"]\n", "`a` is in `formerly` twice"),
        ("formerly = [\"last\"]\n", "`last` has a meaning of its own and cannot name a unit"),
    ] {
        place.write("units/lamp.toml", text);
        let unreadable = read(&Disk::new(place.path(".")), &Scope::Whole).unwrap_err();
        let mistakes: Vec<&str> = unreadable.mistakes.iter().map(|it| it.message.as_str()).collect();
        assert_eq!(mistakes, [wrong]);
    }
}

const DOMAIN: &str = "[variables.domain]\n[variables.site]\ndefault = \"www.${domain}\"\n\
     [connections.db]\nprotocol = \"postgresql\"\nfields.depth.type = \"integer\"\n";

/// All values, by unit, stage and field, sorted as they are without names.
fn values(place: &Place) -> Vec<String> {
    let opened = place.open();
    let (ledger, resolver) = (&opened.ledger, opened.resolver());
    let mut session = resolver.session(None);
    let places = ledger.unit_ids().flat_map(|unit| ledger.places_of(unit));
    let fields = places.flat_map(|(subject, stage)| {
        ledger.slots(subject).all().map(move |slot| FieldId { subject, stage, slot })
    });
    let mut found: Vec<String> = fields
        .filter_map(|field| match session.outcome(field) {
            Outcome::Value(value) => {
                Some(format!("{:?}: {:?}", (field.subject, field.stage), value.expose()?))
            }
            _ => None,
        })
        .collect();
    found.sort();
    found
}

/// What is shared gets another name, and no value changes with it: neither where units use it, nor where they name it, nor
/// where they only name units that do.
#[test]
fn what_is_shared_keeps_all_values_under_another_name() {
    let place = Place::new(&[
        ("shared.toml", DOMAIN),
        ("stages/dev/shared.toml", "domain = \"a.example\"\n[db]\ndepth = 3\nhost = \"${domain}\"\n"),
        ("units/desk.toml", "uses = [\"domain\", \"db\"]\n[variables.deep]\ndefault = \"${db.depth}\"\n"),
        ("units/boat.toml", "[variables.seen]\ndefault = \"${desk/domain} and ${shared/site}\"\n"),
        ("units/quay.toml", "[variables.light]\n"),
        ("stages/dev/quay.toml", "light = \"on\"\n"),
    ]);
    for (from, to) in [("shared/domain", "realm"), ("shared/db.depth", "fathoms")] {
        let before = values(&place);
        called(&place, from, to).unwrap();
        assert_eq!(before, values(&place), "{from}");
    }
    assert!(place.read("units/desk.toml").contains("${db.fathoms}"));
    assert!(place.read("units/boat.toml").contains("${desk/realm} and ${shared/site}"));
}

/// A text that named nothing, and names something under the new name, comes to another value.
#[test]
fn a_new_name_of_something_shared_that_a_text_names_already_is_refused() {
    let named = |file: &str, text: &str, from: &str, to: &str| {
        let place = Place::new(&[
            ("shared.toml", DOMAIN),
            ("stages/dev/shared.toml", "domain = \"a.example\"\n[db]\nhost = \"h\"\n"),
            ("units/desk.toml", "uses = [\"domain\", \"db\"]\n"),
            ("units/boat.toml", "uses = [\"site\"]\n[variables.seen]\n"),
        ]);
        place.write(file, &(std::fs::read_to_string(place.path(file)).unwrap_or_default() + text));
        called(&place, from, to).map_err(|trouble| trouble.to_string())
    };
    let (domain, depth) = (("shared/domain", "realm"), ("shared/db.depth", "fathoms"));
    for ((from, to), file, text, first) in [
        (domain, "stages/dev/boat.toml", "seen = \"${desk/realm}\"\n", "boat/seen@dev"),
        (domain, "stages/dev/desk.toml", "db.host = \"${shared/realm}\"\n", "desk/db.host@dev"),
        (domain, "stages/test/shared.toml", "site = \"${realm}\"\n", "boat/site@test"),
        (depth, "stages/dev/desk.toml", "db.host = \"${shared/db.fathoms}\"\n", "desk/db.host@dev"),
        (depth, "stages/dev/boat.toml", "seen = \"${desk/db.fathoms}\"\n", "boat/seen@dev"),
        (depth, "stages/prod/desk.toml", "db.host = \"${db.fathoms}\"\n", "desk/db.host@prod"),
        (depth, "stages/test/shared.toml", "site = \"${db.fathoms}\"\n", "boat/site@test"),
    ] {
        let refused = named(file, text, from, to).expect_err(text);
        assert!(refused.contains("would change effective values"), "{file}: {text}: {refused}");
        assert!(refused.contains(first), "{file}: {text}: {refused}");
        assert_eq!(named(file, "", from, to), Ok(()), "{file}");
    }
}
