//! What the ledger said when a capture was taken, compared with what it says now, and taken back; and values that a
//! capture hides, of which nobody can tell what they were.

use std::fs;

use cledger_work::Kind;
use cledger_work::asking::Nobody;
use cledger_work::capture::SecretsAs;
use cledger_work::drift::{Against, LookedAt};
use cledger_work::keys::{KeyChange, protect};

use crate::quay::{Quay, captured, delivers, rotates};
use crate::taking_back::{looks, says_secret, takes};
use crate::workplaces::{Place, because};

const PUMP: &str = "uses = [\"store\"]\n[variables.speed]\ntype = \"integer\"\ndefault = 3\n\
     [variables.since]\ntype = \"date\"\ndefault = \"2026-01-02\"\n\
     [variables.ratio]\ntype = \"number\"\ndefault = 1.0\n\
     [variables.doc]\ntype = \"json\"\ndefault = '{\"a\": null, \"b\": [1, 2.50]}'\n\
     [variables.note]\nrequired = false\n\
     [variables.where]\ndefault = \"at ${store.host} on $${day}\"\n\
     [tables.fares]\ncolumns = [\"code\", \"price\"]\nkey = \"code\"\nrequired = false\n\
     [[output]]\npath = \"pump.json\"\nformat = \"json\"\n";

const SHARED: &str = "[connections.store]\nprotocol = \"tcp\"\n";

/// How the rows stand in the stage, and how they stand when they are taken back.
const ROWS: &[(&str, &str)] = &[
    ("[units.pump.fares]\nadult.price = \"3\"\n", ""),
    ("", "[units.pump.fares]\nadult.price = \"3\"\n"),
    (
        "[units.pump.fares.adult]\nprice = \"3\"\n[units.pump.fares.child]\nprice = \"1\"\n",
        "[units.pump.fares.adult]\nprice = \"4\"\n[units.pump.fares.eel]\nprice = \"1\"\n",
    ),
    (
        "[units.pump]\nfares = { adult = { price = \"3\" }, child = { price = \"$${x}\" } }\n",
        "[units.pump]\nfares = { adult = { price = \"3\" }, eel = { price = \"1\" } }\n",
    ),
    ("[units.pump]\nfares = { absent = true }\n", "[units.pump.fares.eel]\nprice = \"1\"\n"),
    ("[units.pump.fares]\nowl.price = \"1\"\n", "[units.pump.fares]\neel.absent = true\nowl.price = \"2\"\n"),
];

fn said(path: &std::path::Path) -> LookedAt {
    LookedAt::CapturedLedger(path.to_owned())
}

fn pump(rows_by_default: &str) -> Place {
    Place::new(&[
        ("units/pump.toml", &PUMP.replace("[[output]]", &format!("{rows_by_default}[[output]]"))),
        ("shared.toml", SHARED),
    ])
}

/// Whatever values are made of and wherever they stand, the ledger says them again, and its references stay.
#[test]
fn what_the_ledger_said_is_taken_back() {
    let place = pump("");
    let stage = |more: &str| {
        place.write(
            "stages/dev.toml",
            &format!("[shared.store]\nhost = \"a\"\nport = 1\n[units.pump]\n{more}"),
        );
    };
    stage("note = \"first\"\n");
    let path = captured(&place, SecretsAs::LeftOut);
    let same = looks(&place, said(&path), &[]).unwrap();
    assert_eq!((same.kind(), same.against, same.units.len()), (None, Against::CapturedLedger, 1));
    place.write(
        "stages/dev.toml",
        "[shared.store]\nhost = \"b\"\nport = 1\n[units.pump]\nspeed = 9\nratio = 1.5\nsince = \"2027-01-01\"\n\
         doc = \"[]\"\n",
    );
    assert_eq!(looks(&place, said(&path), &[]).unwrap().kind(), Some(Kind::Found));
    let taken = takes(&place, said(&path), "*@dev").unwrap();
    assert!(taken.left.is_empty() && taken.kind().is_none(), "{:?}", taken.left);
    assert!(looks(&place, said(&path), &[]).unwrap().kind().is_none());
    let text = place.read("stages/dev.toml");
    assert!(text.contains("value = \"a\"") && !text.contains("where"), "{text}");
    // What stands now in place of a reference is told, and stays.
    stage("note = \"${speed}\"\n");
    let taken = takes(&place, said(&path), "*@dev").unwrap();
    assert_eq!((taken.left.len(), taken.kind()), (1, Some(Kind::Found)));
}

#[test]
fn rows_come_back_however_they_stand() {
    for by_default in ["", "[tables.fares.rows.eel]\nprice = \"7\"\n"] {
        for (then, now) in ROWS {
            let place = pump(by_default);
            let stage = |rows: &str| {
                place.write("stages/dev.toml", &format!("[shared.store]\nhost = \"a\"\nport = 1\n{rows}"));
            };
            stage(then);
            let path = captured(&place, SecretsAs::LeftOut);
            stage(now);
            assert_eq!(looks(&place, said(&path), &[]).unwrap().kind(), Some(Kind::Found), "{then}");
            let taken = takes(&place, said(&path), "pump/*@dev").unwrap();
            assert!(taken.left.is_empty(), "{:?}", taken.left);
            let text = place.read("stages/dev.toml");
            assert!(looks(&place, said(&path), &[]).unwrap().kind().is_none(), "{by_default} {then} {text}");
        }
    }
}

#[test]
fn rows_of_a_file_are_left_to_it() {
    let place = pump("");
    place.write("tables/fares.csv", "code,price\nadult,3\n");
    place.write(
        "stages/dev.toml",
        "[shared.store]\nhost = \"a\"\nport = 1\n[units.pump]\nfares = \"tables/fares.csv\"\n",
    );
    let path = captured(&place, SecretsAs::LeftOut);
    place.write("tables/fares.csv", "code,price\nadult,4\n");
    let taken = takes(&place, said(&path), "*@dev").unwrap();
    assert!(taken.left[0].1.contains("tables/fares.csv"), "{:?}", taken.left);
}

/// Secrets come back under whatever key there is; what the ledger has open by now is none, and stays hidden.
#[test]
fn secrets_come_back_and_stay_secrets() {
    let quay = Quay::new(None, Nobody);
    let place = &quay.place;
    let (contract, stage) = (place.read("units/desk.toml"), place.read("stages/test.toml"));
    place.write(
        "units/desk.toml",
        &contract.replacen("[[output]]", "[variables.pin]\nsecret = true\n[[output]]", 1),
    );
    let says_pin = |pin: &str| {
        place.write("stages/test.toml", &format!("{stage}pin = \"0\"\n"));
        place.write(
            "stages/dev.toml",
            &format!("[units.desk]\ngate.token = \"plover-dev\"\npin = \"{pin}\"\n"),
        );
        let stages = ["@dev", "@test"].map(str::to_owned).to_vec();
        protect(&place.change(), &KeyChange { stages, consent: because(&[]), write: true }).unwrap();
    };
    says_pin("kestrel");
    delivers(place).unwrap();
    let path = captured(place, SecretsAs::Encrypted);
    assert!(!fs::read_to_string(&path).unwrap().contains("kestrel"));
    says_pin("whimbrel");
    takes(place, said(&path), "*@dev").unwrap();
    delivers(place).unwrap();
    assert!(fs::read_to_string(place.path("../live/dev/desk/desk.env")).unwrap().contains("kestrel"));
    place.write("units/desk.toml", &contract.replacen("[[output]]", "[variables.pin]\n[[output]]", 1));
    for (name, stage) in [("dev", "plover-dev"), ("test", "plover-test")] {
        let text = format!("[units.desk]\ngate.token = \"{stage}\"\npin = \"open\"\n");
        place.write(&format!("stages/{name}.toml"), &text);
    }
    for at in [said(&path), LookedAt::Captured(path.clone())] {
        let seen = looks(place, at.clone(), &["@dev"]).unwrap();
        assert_eq!(seen.kind(), Some(Kind::Found));
        let seen = format!("{seen:?}");
        assert!(seen.contains("there: Some(Secret") && !seen.contains("there: Some(Open"), "{seen}");
        let refused = takes(place, at, "desk/pin@dev").unwrap_err();
        assert!(refused.to_string().contains("is not declared as one"), "{refused}");
    }
}

/// What a capture hides is no value, and is not taken for one that is gone.
#[test]
fn what_is_hidden_is_not_taken_for_gone() {
    for secrets in [SecretsAs::Fingerprints, SecretsAs::LeftOut] {
        let quay = Quay::new(None, Nobody);
        let place = &quay.place;
        delivers(place).unwrap();
        let path = captured(place, secrets);
        says_secret(&quay, "whimbrel");
        let before = place.read("stages/dev.toml");
        for at in [said(&path), LookedAt::Captured(path.clone())] {
            let seen = looks(place, at.clone(), &["@dev"]).unwrap();
            let seen = format!("{:?}", seen.units);
            assert!(!seen.contains("EditedByHand") && !seen.contains("Both"), "{seen}");
            assert!(
                takes(place, at.clone(), "desk/gate.token@dev").unwrap_err().to_string().contains("hidden")
            );
            let taken = takes(place, at, "*@dev").unwrap();
            assert_eq!((taken.left.len(), taken.kind()), (1, Some(Kind::Found)));
            assert_eq!(place.read("stages/dev.toml"), before);
        }
    }
    // The same where the key has been changed since.
    let quay = Quay::new(None, Nobody);
    delivers(&quay.place).unwrap();
    let path = captured(&quay.place, SecretsAs::Encrypted);
    rotates(&quay.place).unwrap();
    let taken = takes(&quay.place, said(&path), "*@dev").unwrap();
    assert_eq!(taken.left.len(), 1);
    // And what was captured without the ledger has nothing of it.
    let text = fs::read_to_string(&path).unwrap();
    let without = &text[..text.find(",\n  \"said\"").unwrap()];
    fs::write(&path, format!("{without}}}")).unwrap();
    let refused = looks(&quay.place, said(&path), &[]).unwrap_err();
    assert!(refused.to_string().contains("nothing of the ledger"), "{refused}");
}
