//! Bundles: what goes together goes whole, in the order of its references, and back.

use cledger_store::daybook::Kind as RecordKind;
use cledger_work::asking::{Nobody, Stepping};
use cledger_work::deliver::withdraw::{ToWithdraw, withdraw};
use cledger_work::deliver::{Delivered, ToDeliver, deliver, history};
use cledger_work::{Kind, Trouble};

use crate::interrupted::Interruption;
use crate::workplaces::{Answers, Meddler, Place, asked, because, whole};

/// `desk` refers to `gate`, which comes behind it by name.
const FILES: [(&str, &str); 4] = [
    (
        "units/desk.toml",
        "[variables.way]\ndefault = \"${gate/host}\"\n[[output]]\npath = \"a.env\"\nformat = \"dotenv\"\n",
    ),
    (
        "units/gate.toml",
        "[variables.host]\ndefault = \"g1\"\n[[output]]\npath = \"a.env\"\nformat = \"dotenv\"\n",
    ),
    (
        "units/lamp.toml",
        "[variables.light]\ndefault = \"on\"\n[[output]]\npath = \"a.env\"\nformat = \"dotenv\"\n",
    ),
    ("stages/dev.toml", ""),
];

fn place(stepping: impl Stepping + Send + Sync + 'static, answers: Option<Meddler>) -> Place {
    let place = match answers {
        Some(meddler) => Place::with(&FILES, meddler, stepping),
        None => Place::with(&FILES, Answers::default(), stepping),
    };
    bundled(&place, &["desk", "gate"]);
    place
}

/// Has the bundle consist of these units.
fn bundled(place: &Place, units: &[&str]) {
    let manifest = place.read("ledger.toml");
    let before = manifest.split("[[bundle]]").next().unwrap();
    place.write("ledger.toml", &format!("{before}[[bundle]]\nname = \"quay\"\nunits = {units:?}\n"));
}

/// What the ledger says of the fields that matter.
fn says(place: &Place, host: &str) {
    place.write("stages/dev.toml", &format!("[units.gate]\nhost = \"{host}\"\n"));
}

fn to_deliver(what: &str) -> ToDeliver {
    ToDeliver { what: whole(what), ..asked(&[], "dev") }
}

fn delivers(place: &Place) -> Result<Delivered, Trouble> {
    deliver(&place.open(), &to_deliver("bundle:quay@dev"))
}

/// What each record is of, with the units and numbers that it lists.
fn records(place: &Place) -> Vec<String> {
    let records = history::history(&place.open(), &[], 100).unwrap().records.into_iter();
    let told = |meta: cledger_store::daybook::Meta| {
        let members = meta.members.iter().map(|it| format!(" {}:{}", it.unit, it.number.unwrap_or(0)));
        format!("{}:{}{}", meta.unit, meta.number, members.collect::<String>())
    };
    records.map(|record| told(record.meta)).collect()
}

fn live(place: &Place, unit: &str) -> String {
    let path = place.path(&format!("../live/dev/{unit}/a.env"));
    std::fs::read_to_string(path).unwrap_or_default()
}

#[test]
fn a_bundle_is_delivered_in_the_order_of_references_and_goes_back_as_a_whole() {
    let place = place(Nobody, None);
    says(&place, "g1");
    assert_eq!(delivers(&place).unwrap().kind(), None);
    assert_eq!(records(&place), ["gate:1", "desk:1", "bundle:quay:1 gate:1 desk:1"]);
    // Nothing new is no delivery.
    delivers(&place).unwrap();
    assert_eq!(records(&place).len(), 3);
    says(&place, "g2");
    delivers(&place).unwrap();
    let back = ToDeliver { again: Some(1), ..to_deliver("bundle:quay@dev") };
    deliver(&place.open(), &back).unwrap();
    assert_eq!(
        records(&place)[3..9],
        [
            "gate:2",
            "desk:2",
            "bundle:quay:2 gate:2 desk:2",
            "gate:3",
            "desk:3",
            "bundle:quay:3 gate:3 desk:3"
        ]
    );
    assert!(live(&place, "desk").contains("g1") && live(&place, "gate").contains("g1"));
    // As they were at a time: when the second had come.
    let second = history::history(&place.open(), &[], 100).unwrap().records.remove(5).meta.time;
    let then = ToDeliver { again_at: Some(second.parse().unwrap()), ..to_deliver("bundle:quay@dev") };
    deliver(&place.open(), &then).unwrap();
    assert_eq!(records(&place).last().unwrap(), "bundle:quay:4 gate:4 desk:4");
    assert!(live(&place, "desk").contains("g2") && live(&place, "gate").contains("g2"));
    let asked = ToWithdraw { consent: because(&[]), write: true, ..ToWithdraw::default() };
    let withdrawn = withdraw(&place.open(), &whole("bundle:quay@dev"), &asked).unwrap();
    let order: Vec<&str> = withdrawn.units.iter().map(|it| it.owner.as_str()).collect();
    assert_eq!(order, ["desk", "gate"]);
    assert_eq!(records(&place).last().unwrap(), "bundle:quay:5 desk:5 gate:5");
    assert_eq!(live(&place, "desk") + &live(&place, "gate"), "");
}

#[test]
fn units_that_joined_left_or_went_their_own_way_are_told() {
    let place = place(Nobody, None);
    delivers(&place).unwrap();
    says(&place, "g2");
    deliver(&place.open(), &asked(&["gate"], "dev")).unwrap();
    bundled(&place, &["g*", "lamp"]);
    let plan = deliver(&place.open(), &ToDeliver { write: false, ..to_deliver("bundle:quay@dev") }).unwrap();
    let together = plan.together.unwrap();
    assert_eq!((together.joined, together.left), (vec!["lamp".to_owned()], vec!["desk".to_owned()]));
    assert_eq!(together.alone, [("gate".to_owned(), 2)]);
    // What left stays, and what joined does when it goes back before that.
    delivers(&place).unwrap();
    deliver(&place.open(), &ToDeliver { again: Some(1), ..to_deliver("bundle:quay@dev") }).unwrap();
    assert_eq!(records(&place).last().unwrap(), "bundle:quay:3 gate:3");
    assert!(live(&place, "desk").contains("g1") && live(&place, "lamp").contains("on"));
}

#[test]
fn where_one_unit_is_held_up_none_is_brought() {
    let place = place(Nobody, None);
    delivers(&place).unwrap();
    says(&place, "g2");
    let before = records(&place);
    place.write("../live/dev/desk/a.env", "WAY=by-hand\n");
    let refused = delivers(&place).unwrap_err();
    assert_eq!(refused.kind(), Kind::Refused, "{refused}");
    assert!(live(&place, "gate").contains("g1"));
    assert_eq!(records(&place), before);
}

#[test]
fn what_somebody_else_delivers_meanwhile_holds_all_of_it_up() {
    let meddler = Meddler::default();
    let place = place(Nobody, Some(meddler.clone()));
    place.write(
        "ledger.toml",
        &place.read("ledger.toml").replace("after = [\"dev\"]", "").replace("after = [\"test\"]", ""),
    );
    let other = place.beside(Nobody);
    meddler.once(move || {
        let asked = ToDeliver { consent: because(&["prod"]), ..asked(&["desk"], "prod") };
        deliver(&other.open(), &asked).unwrap();
    });
    let asked = ToDeliver { what: whole("bundle:quay@prod"), ..asked(&[], "prod") };
    let refused = deliver(&place.open(), &asked).unwrap_err();
    assert!(refused.to_string().contains("meanwhile"), "{refused}");
    assert_eq!(records(&place), ["desk:1"]);
}

#[test]
fn an_interrupted_bundle_is_finished_by_whoever_delivers_it_next() {
    for step in 1.. {
        let interruption = Interruption::default();
        let place = place(interruption.clone(), None);
        says(&place, "g1");
        let ended = interruption.at(step, || delivers(&place));
        let is_over = matches!(&ended, Ok(delivered) if delivered.kind().is_none());
        delivers(&place).unwrap();
        assert!(live(&place, "desk").contains("g1") && live(&place, "gate").contains("g1"), "{step}");
        let listed = history::history(&place.open(), &["bundle:quay".to_owned()], 10).unwrap().records;
        let last = listed.last().unwrap();
        assert_eq!(last.meta.kind, RecordKind::BundleDelivered);
        let members: Vec<_> =
            last.meta.members.iter().map(|it| (it.unit.as_str(), it.state.is_whole())).collect();
        assert_eq!(members, [("gate", true), ("desk", true)], "{step}");
        if is_over {
            assert!(step > 6, "{step}");
            return;
        }
    }
}

#[test]
fn a_bundle_keeps_its_history_when_its_units_and_its_stage_get_other_names() {
    let place = place(Nobody, None);
    says(&place, "g1");
    delivers(&place).unwrap();
    place.write("units/tor.toml", &format!("formerly = [\"gate\"]\n{}", place.read("units/gate.toml")));
    place.write("units/desk.toml", &place.read("units/desk.toml").replace("gate", "tor"));
    std::fs::remove_file(place.path("units/gate.toml")).unwrap();
    std::fs::remove_file(place.path("stages/dev.toml")).unwrap();
    let manifest =
        place.read("ledger.toml").replace("name = \"dev\"", "name = \"early\"\nformerly = [\"dev\"]");
    place.write(
        "ledger.toml",
        &manifest
            .replace("default_stage = \"dev\"", "default_stage = \"early\"")
            .replace("[\"dev\"]\n[[stage]]", "[\"early\"]\n[[stage]]")
            .replace("after = [\"dev\"]", "after = [\"early\"]"),
    );
    bundled(&place, &["desk", "tor"]);
    place.write("stages/early.toml", "[units.tor]\nhost = \"g2\"\n");
    std::fs::create_dir_all(place.path("../live/early")).unwrap();
    let asked = |again| ToDeliver { what: whole("bundle:quay@early"), again, ..asked(&[], "early") };
    let plan = deliver(&place.open(), &ToDeliver { write: false, ..asked(None) }).unwrap().together.unwrap();
    assert_eq!(
        (plan.joined, plan.left, plan.last.map(|(number, _)| number)),
        (Vec::new(), Vec::new(), Some(1))
    );
    deliver(&place.open(), &asked(None)).unwrap();
    deliver(&place.open(), &asked(Some(1))).unwrap();
    let last =
        history::history(&place.open(), &["bundle:quay".to_owned()], 9).unwrap().records.pop().unwrap();
    assert_eq!((last.meta.number, last.meta.again, last.meta.members.len()), (3, Some(1), 2));
}
