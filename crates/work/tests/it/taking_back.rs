//! What was delivered, looked at and taken back into the ledger.

use std::fs;

use cledger_work::Kind;
use cledger_work::Trouble;
use cledger_work::asking::Nobody;
use cledger_work::deliver::history;
use cledger_work::drift::{Deliveries, Drift, LookedAt, Taken, ToLookAt, ToTake, drift, take};
use cledger_work::keys::{KeyChange, protect};
use cledger_work::reality::standing::State;

use crate::database::{self, Server};
use crate::quay::{Quay, delivers, rotates, withdraws};
use crate::workplaces::{Place, because, whole};

fn numbered(text: &str) -> LookedAt {
    LookedAt::Delivered(Deliveries::Of(whole(text)))
}

/// What every unit had when a delivery came.
fn when_came(place: &Place, number: u64) -> LookedAt {
    let records = history::history(&place.open(), &[], 50).unwrap().records;
    let record = records.into_iter().find(|record| record.meta.number == number).unwrap();
    LookedAt::Delivered(Deliveries::At(record.meta.time.parse().unwrap()))
}

pub(crate) fn looks(place: &Place, at: LookedAt, addresses: &[&str]) -> Result<Drift, Trouble> {
    let addresses = addresses.iter().map(|&text| text.to_owned()).collect();
    drift(&place.at, &ToLookAt { addresses, at, ..ToLookAt::default() })
}

pub(crate) fn takes(place: &Place, at: LookedAt, field: &str) -> Result<Taken, Trouble> {
    let asked = ToTake {
        fields: vec![field.to_owned()],
        stage: None,
        at,
        today: None,
        plain_secrets: false,
        consent: because(&[]),
        write: true,
    };
    take(&place.change(), &asked)
}

/// Has the ledger say another secret than before.
pub(crate) fn says_secret(quay: &Quay, token: &str) {
    let stage = quay.place.read("stages/dev.toml");
    let others = stage.lines().filter(|line| !line.starts_with("gate.token"));
    let line = format!("gate.token = \"{token}\"");
    quay.place.write("stages/dev.toml", &others.chain([&*line]).collect::<Vec<_>>().join("\n"));
    let change = KeyChange { stages: vec!["@dev".to_owned()], consent: because(&[]), write: true };
    protect(&quay.place.change(), &change).unwrap();
}

/// A quay with three deliveries: a value and a secret changed, and the key since.
fn moved_on(server: Option<&Server>) -> Quay {
    let quay = Quay::new(server, Nobody);
    for (hold, token) in [("5m", "plover-dev"), ("6m", "whimbrel"), ("7m", "dunlin")] {
        quay.says(hold);
        says_secret(&quay, token);
        delivers(&quay.place).unwrap();
    }
    rotates(&quay.place).unwrap();
    quay
}

/// The ledger says again what a delivery held, secrets included, and the next delivery brings that; files, documents and
/// rows tell the same.
fn what_was_delivered_comes_back(server: Option<&Server>) {
    let first = {
        let mut quay = Quay::new(server, Nobody);
        quay.says("5m");
        delivers(&quay.place).unwrap();
        quay.there()
    };
    for by_time in [false, true] {
        let mut quay = moved_on(server);
        let at = || if by_time { when_came(&quay.place, 1) } else { numbered("desk@dev:1") };
        assert!(looks(&quay.place, numbered("desk@dev:last"), &[]).unwrap().kind().is_none());
        let seen = looks(&quay.place, at(), &["@dev"]).unwrap();
        assert_eq!(
            (seen.kind(), seen.units.len()),
            (Some(Kind::Found), if server.is_some() { 3 } else { 2 })
        );
        let taken = takes(&quay.place, at(), "*@dev").unwrap();
        assert!(taken.left.is_empty() && taken.kind().is_none());
        let stage = quay.place.read("stages/dev.toml");
        assert!(stage.contains("5m") && !stage.contains("plover"), "{stage}");
        assert!(looks(&quay.place, at(), &["@dev"]).unwrap().kind().is_none());
        delivers(&quay.place).unwrap();
        assert_eq!(quay.there(), first);
        quay.is_in_order();
    }
}

#[test]
fn what_was_delivered_is_taken_back_into_the_ledger() {
    what_was_delivered_comes_back(None);
    if let Some(server) = database::postgres(None) {
        what_was_delivered_comes_back(Some(&server));
    }
}

#[test]
fn nothing_is_made_of_what_was_not_delivered_or_cannot_be_read() {
    let quay = moved_on(None);
    let (place, before) = (&quay.place, quay.place.everything());
    for (at, told) in [
        (numbered("desk@dev:9"), "there is no delivery `desk@dev:9`"),
        (numbered("desk@dev"), "no delivery of a unit or bundle is named"),
        (numbered("desk@prod:last"), "nothing of `desk` was delivered to `prod`"),
        (numbered("desk@nowhere:1"), "nowhere"),
        (numbered("d*@dev"), "no delivery"),
        (numbered("bundle:none@dev:1"), "there is no delivery `bundle:none@dev:1`"),
        (numbered("desk@test:1"), "the delivery is of `test`"),
    ] {
        let refused = takes(place, at, "*@dev").unwrap_err();
        assert!(refused.kind() == Kind::Usage && refused.to_string().contains(told), "{refused}");
    }
    // Before the first, and after a withdrawal, there was nothing.
    let early = LookedAt::Delivered(Deliveries::At("2020-01-01T00:00:00Z".parse().unwrap()));
    let nothing = looks(place, early, &["@dev"]).unwrap();
    assert!(nothing.units.iter().all(|unit| matches!(unit.state, State::NotKnown(_))));
    assert_eq!(nothing.kind(), Some(Kind::Outside));
    // Whoever has not the key learns no secret, and takes none for gone.
    let identity = place.path("../identity");
    let mine = fs::read(&identity).unwrap();
    fs::remove_file(&identity).unwrap();
    let other = place.beside(Nobody);
    let hidden = looks(&other, numbered("desk@dev:1"), &[]).unwrap();
    assert_eq!(hidden.kind(), Some(Kind::Outside));
    assert!(takes(&other, numbered("desk@dev:1"), "*@dev").is_err());
    fs::write(&identity, mine).unwrap();
    let same = |files: &std::collections::BTreeMap<std::path::PathBuf, (Vec<u8>, _)>| {
        files.iter().map(|(path, (bytes, _))| (path.clone(), bytes.clone())).collect::<Vec<_>>()
    };
    assert_eq!(same(&place.everything()), same(&before));
    withdraws(place).unwrap();
    let off = looks(place, when_came(place, 4), &["@dev"]).unwrap();
    assert!(off.units.iter().all(|unit| matches!(unit.state, State::NotKnown(_))));
}

#[test]
fn of_units_that_a_delivery_has_not_nothing_is_said() {
    const UNIT: &str = "uses = [\"mail\"]\n[[output]]\npath = \"a.env\"\nformat = \"dotenv\"\n";
    let place = Place::new(&[
        ("units/desk.toml", UNIT),
        ("units/lamp.toml", UNIT),
        ("shared.toml", "[connections.mail]\nprotocol = \"smtp\"\nfields.port.default = 26\n"),
    ]);
    let says = |host: &str| place.write("stages/dev.toml", &format!("[shared.mail]\nhost = \"{host}\"\n"));
    says("one.example");
    delivers(&place).unwrap();
    says("two.example");
    let refused = takes(&place, numbered("desk@dev:1"), "shared/mail.host@dev").unwrap_err();
    assert!(refused.to_string().contains("nobody can tell"), "{refused}");
    takes(&place, numbered("desk@dev:1"), "desk/mail.host@dev").unwrap();
    let stage = place.read("stages/dev.toml");
    assert!(stage.contains("two.example") && stage.contains("one.example"), "{stage}");
}
