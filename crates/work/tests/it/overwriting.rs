//! What is at an outlet and not ours: seen before it would be lost, left, overwritten and kept, and brought back.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;

use cledger_core::delivery::Whose;
use cledger_work::bringing::at::{AtOutlet, Stays};
use cledger_work::deliver::overwritten::bring_back;
use cledger_work::deliver::withdraw::{ToWithdraw, withdraw};
use cledger_work::deliver::{Delivered, Edits, ToDeliver, deliver, history};
use cledger_work::drift::{ToLookAt, drift};
use cledger_work::keys::{KeyChange, ToMake, identity, make};
use cledger_work::{Kind, Trouble};
use proptest::prelude::*;

use crate::workplaces::{Place, address, asked, because, whole};

const DESK: &str = "[variables.hold]\ndefault = \"5m\"\n[variables.region]\ndefault = \"north\"\n";
const ENV: &str = "[[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n";
const JSON: &str = "[[output]]\npath = \"desk.json\"\nformat = \"json\"\n";
const THERE: &str = "../live/dev/desk/desk.env";

/// A unit with these outputs, and a key for the stage, without which nothing overwritten could be kept.
fn place(outputs: &str) -> Place {
    let place = Place::new(&[("units/desk.toml", &format!("{DESK}{outputs}"))]);
    identity(&place.at, true).unwrap();
    let change = KeyChange { stages: vec!["@dev".to_owned()], consent: because(&[]), write: true };
    let name = Some(cledger_core::name::Name::parse("ada").unwrap());
    make(&place.change(), &ToMake { change, name, readers: Vec::new(), passphrase: None }).unwrap();
    place
}

fn make_with(place: &Place, edits: Edits) -> Result<Delivered, Trouble> {
    deliver(&place.open(), &ToDeliver { edits, ..asked(&["desk"], "dev") })
}

fn overwriting() -> Edits {
    Edits { leave: Vec::new(), overwrite: true }
}

fn leaving(names: &[&str]) -> Edits {
    Edits { leave: names.iter().map(|name| (*name).to_owned()).collect(), overwrite: false }
}

fn take_off(place: &Place, overwrite: bool) -> Result<(), Trouble> {
    let edits = Edits { leave: Vec::new(), overwrite };
    let asked = ToWithdraw { edits, consent: because(&[]), write: true, ..ToWithdraw::default() };
    withdraw(&place.open(), &whole("desk@dev"), &asked).map(drop)
}

/// The names of a plan, each with whose it is and whether it stays.
fn told(place: &Place, edits: Edits) -> Vec<(String, Whose, Option<Stays>)> {
    let plan = ToDeliver { write: false, edits, ..asked(&["desk"], "dev") };
    let plan = deliver(&place.open(), &plan).unwrap();
    let outlets = plan.deliveries.iter().flat_map(|delivery| &delivery.plan.outlets);
    let names = outlets.flat_map(AtOutlet::parts).flat_map(|part| &part.names);
    names.map(|name| (name.shown().unwrap_or_default(), name.whose, name.stays)).collect()
}

#[test]
fn an_edit_by_hand_is_refused_left_or_overwritten_and_kept() {
    let place = place(ENV);
    make_with(&place, Edits::default()).unwrap();
    place.write(THERE, "HOLD=9m\nREGION=north\nEXTRA=x\n");
    let edited =
        |stays| vec![("EXTRA".to_owned(), Whose::Edited, stays), ("HOLD".to_owned(), Whose::Edited, stays)];
    assert_eq!(told(&place, Edits::default()), edited(None));
    let refused = make_with(&place, Edits::default()).unwrap_err();
    assert_eq!(refused.kind(), Kind::Refused);
    assert!(refused.to_string().contains("edited by hand since delivery 1"), "{refused}");
    assert_eq!(place.read(THERE), "HOLD=9m\nREGION=north\nEXTRA=x\n");
    // A pattern that covers nothing is no consent to anything.
    assert_eq!(make_with(&place, leaving(&["HOLDS"])).unwrap_err().kind(), Kind::Usage);
    assert_eq!(told(&place, leaving(&["HOLD", "EX*"])), edited(Some(Stays::Left)));
    // What is left stays while the rest is brought, and counts as not delivered.
    place.write("stages/dev.toml", "[units.desk]\nregion = \"south\"\n");
    make_with(&place, leaving(&["hold", "EXTRA"])).unwrap();
    assert_eq!(place.read(THERE), "EXTRA=x\nHOLD=9m\nREGION=south\n");
    assert_eq!(told(&place, Edits::default()), edited(None));
    make_with(&place, overwriting()).unwrap();
    assert_eq!(place.read(THERE), "HOLD=5m\nREGION=south\n");
    let last = history::recorded(&place.open(), &address("desk@dev:last")).unwrap();
    let kept = last.content.before["files/desk.env"].expose().unwrap();
    assert!(kept.contains("HOLD=9m") && last.content.before["files/desk.env"].is_secret());
    assert!(told(&place, Edits::default()).is_empty());
}

#[test]
fn only_what_is_named_is_brought_and_the_rest_stays_as_it_is_there() {
    let place = place(ENV);
    make_with(&place, Edits::default()).unwrap();
    place.write(THERE, "HOLD=5m\nREGION=hand\n");
    place.write("stages/dev.toml", "[units.desk]\nhold = \"1m\"\nregion = \"south\"\n");
    let only = ToDeliver { only: vec!["hold".to_owned()], ..asked(&["desk"], "dev") };
    deliver(&place.open(), &only).unwrap();
    assert_eq!(place.read(THERE), "HOLD=1m\nREGION=hand\n");
    assert_eq!(told(&place, Edits::default()), [("REGION".to_owned(), Whose::Edited, None)]);
}

#[test]
fn what_was_there_before_the_first_delivery_comes_back_with_a_withdrawal() {
    let place = place(&format!("{ENV}{JSON}"));
    let before = "# kept by hand\nREGION=old\nTHEIRS=1\n";
    place.write(THERE, before);
    let refused = make_with(&place, Edits::default()).unwrap_err();
    assert!(refused.to_string().contains("there before the first delivery"), "{refused}");
    make_with(&place, overwriting()).unwrap();
    assert_eq!(place.read(THERE), "HOLD=5m\nREGION=north\n");
    make_with(&place, Edits::default()).unwrap();
    // A hand edit since is nothing that a withdrawal may overwrite.
    place.write(THERE, "HOLD=7m\nREGION=north\n");
    assert_eq!(take_off(&place, false).unwrap_err().kind(), Kind::Refused);
    take_off(&place, true).unwrap();
    assert_eq!(place.read(THERE), before, "with its comments, and all");
    assert!(!place.path("../live/dev/desk/desk.json").exists());
    let looked = ToLookAt { addresses: vec!["@dev".to_owned()], ..ToLookAt::default() };
    assert_eq!(drift(&place.at, &looked).unwrap().kind(), None);
    // What stands there since is nobody's here again.
    assert_eq!(make_with(&place, Edits::default()).unwrap_err().kind(), Kind::Refused);
}

#[test]
fn a_unit_that_is_gone_from_the_ledger_is_left_over_until_it_is_taken_off() {
    let place = place(ENV);
    let gate = "[variables.line]\ndefault = \"a\"\n[[output]]\npath = \"gate.env\"\nformat = \"dotenv\"\n";
    place.write("units/gate.toml", gate);
    deliver(&place.open(), &asked(&[], "dev")).unwrap();
    fs::remove_file(place.path("units/gate.toml")).unwrap();
    let looked = ToLookAt { addresses: vec!["@dev".to_owned()], ..ToLookAt::default() };
    assert_eq!(drift(&place.at, &looked).unwrap().kind(), Some(Kind::Found));
    // A delivery of another unit does not touch it; one of the stage takes it off.
    make_with(&place, Edits::default()).unwrap();
    assert!(place.path("../live/dev/gate/gate.env").exists());
    let all = deliver(&place.open(), &asked(&[], "dev")).unwrap();
    assert_eq!(all.left_over.len(), 1);
    assert!(!place.path("../live/dev/gate/gate.env").exists());
    assert_eq!(drift(&place.at, &looked).unwrap().kind(), None);
}

/// Something that happens to a unit and its outlet.
#[derive(Debug, Clone)]
enum Happening {
    Set(usize, &'static str),
    Outputs(bool, bool),
    ByHand(usize, Option<&'static str>),
    FileGone,
    Deliver,
    Withdraw,
}

fn happening() -> impl Strategy<Value = Happening> {
    let value = prop::sample::select(&["one", "two", "three"][..]);
    prop_oneof![
        (0..2_usize, value.clone()).prop_map(|(name, value)| Happening::Set(name, value)),
        (any::<bool>(), any::<bool>()).prop_map(|(env, json)| Happening::Outputs(env, json)),
        (0..3_usize, prop::option::of(value)).prop_map(|(name, value)| Happening::ByHand(name, value)),
        Just(Happening::FileGone),
        Just(Happening::Deliver),
        Just(Happening::Deliver),
        Just(Happening::Withdraw),
    ]
}

const NAMES: [&str; 3] = ["HOLD", "REGION", "EXTRA"];

/// The names and values of an environment file; none where there is no file.
fn names(place: &Place, path: &str) -> Option<BTreeMap<String, String>> {
    let text = fs::read_to_string(place.path(path)).ok()?;
    Some(text.lines().filter_map(|line| line.split_once('=')).map(|(a, b)| (a.into(), b.into())).collect())
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(24) })]

    /// Drift is clean exactly when the outlet holds what is ours and nothing of ours besides.
    #[test]
    fn drift_is_clean_exactly_when_the_outlet_holds_what_is_ours(
        happenings in prop::collection::vec(happening(), 1..9)
    ) {
        let place = place(ENV);
        let mut values = ["5m", "north"].map(str::to_owned);
        let (mut outputs, mut is_off) = ([true, false], false);
        // The files that were brought and not taken off yet.
        let mut ours: BTreeSet<&str> = BTreeSet::new();
        for happening in happenings {
            match happening {
                Happening::Set(name, value) => {
                    values[name] = value.to_owned();
                    let text = format!("[units.desk]\nhold = \"{}\"\nregion = \"{}\"\n", values[0], values[1]);
                    place.write("stages/dev.toml", &text);
                }
                Happening::Outputs(env, json) => {
                    outputs = [env, json];
                    let text = [(env, ENV), (json, JSON)].map(|(is, text)| if is { text } else { "" });
                    place.write("units/desk.toml", &format!("{DESK}{}", text.concat()));
                }
                Happening::ByHand(name, value) => {
                    let Some(mut there) = names(&place, THERE) else { continue };
                    there.remove(NAMES[name]);
                    there.extend(value.map(|value| (NAMES[name].to_owned(), value.to_owned())));
                    let lines: Vec<String> = there.iter().map(|(name, value)| format!("{name}={value}\n")).collect();
                    place.write(THERE, &lines.concat());
                }
                Happening::FileGone => drop(fs::remove_file(place.path(THERE))),
                Happening::Deliver => {
                    if make_with(&place, overwriting()).is_ok() && outputs.contains(&true) {
                        is_off = false;
                    }
                    ours = ["desk.env", "desk.json"].into_iter().zip(outputs).filter(|it| it.1).map(|it| it.0).collect();
                }
                Happening::Withdraw => {
                    if take_off(&place, true).is_ok() {
                        is_off = true;
                        ours.clear();
                    }
                }
            }
            let looked = ToLookAt { addresses: vec!["desk@dev".to_owned()], ..ToLookAt::default() };
            let found = drift(&place.at, &looked).unwrap();
            let wanted: BTreeMap<String, String> =
                [("HOLD", &values[0]), ("REGION", &values[1])].map(|(a, b)| (a.to_owned(), b.clone())).into();
            let env = names(&place, THERE);
            let json = fs::read_to_string(place.path("../live/dev/desk/desk.json")).ok();
            let json: Option<BTreeMap<String, String>> = json.map(|text| serde_json::from_str(&text).unwrap());
            let json = json.map(|map| map.into_iter().map(|(name, value)| (name.to_uppercase(), value)).collect());
            let holds = [("desk.env", env), ("desk.json", json)].into_iter().zip(outputs).all(|((path, there), is)| {
                if is { there.as_ref() == Some(&wanted) } else { there.is_none() || !ours.contains(path) }
            });
            let expected = is_off || holds;
            prop_assert_eq!(found.kind().is_none(), expected, "{:?}\n{:?}", happening, found.units);
        }
    }
}

#[test]
fn only_what_was_not_ours_comes_back() {
    let place = place(ENV);
    make_with(&place, Edits::default()).unwrap();
    // One name edited, one added, one taken away.
    place.write(THERE, "HOLD=9m\nEXTRA=x\n");
    make_with(&place, overwriting()).unwrap();
    // Then the ledger says something else of another name, and of one that was taken away.
    place.write("stages/dev.toml", "[units.desk]\nregion = \"south\"\n");
    make_with(&place, Edits::default()).unwrap();
    assert_eq!(place.read(THERE), "HOLD=5m\nREGION=south\n");
    let back = |write| bring_back(&place.open(), &address("desk@dev:2"), &because(&[]), write).unwrap();
    let plan = back(false);
    let names = plan.outlets.iter().flat_map(AtOutlet::parts).flat_map(|part| &part.names);
    let names: Vec<String> = names.filter_map(cledger_work::bringing::at::AtName::shown).collect();
    assert_eq!(names, ["EXTRA", "HOLD", "REGION"]);
    back(true);
    assert_eq!(place.read(THERE), "HOLD=9m\nEXTRA=x\n", "just as it was");
    // An edit since, of a name that does not come back, stays; of one that does, it is in the way.
    make_with(&place, overwriting()).unwrap();
    place.write(THERE, "HOLD=5m\nOTHER=1\nREGION=south\n");
    back(true);
    assert_eq!(place.read(THERE), "EXTRA=x\nHOLD=9m\nOTHER=1\n");
    make_with(&place, overwriting()).unwrap();
    place.write(THERE, "HOLD=1m\nREGION=south\n");
    let refused = bring_back(&place.open(), &address("desk@dev:2"), &because(&[]), true).unwrap_err();
    assert_eq!(refused.kind(), Kind::Refused);
    assert_eq!(place.read(THERE), "HOLD=1m\nREGION=south\n");
}

#[test]
fn a_file_that_went_with_an_edit_comes_back_with_the_edit() {
    let place = place(&format!("{ENV}{JSON}"));
    let json = "../live/dev/desk/desk.json";
    make_with(&place, Edits::default()).unwrap();
    place.write(json, &place.read(json).replace("5m", "9m"));
    place.write("units/desk.toml", &format!("{DESK}{ENV}"));
    make_with(&place, overwriting()).unwrap();
    assert!(!place.path(json).exists());
    bring_back(&place.open(), &address("desk@dev:2"), &because(&[]), true).unwrap();
    assert!(place.read(json).contains("9m"), "{}", place.read(json));
}
