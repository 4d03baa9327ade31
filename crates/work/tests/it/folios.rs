//! Folios: what comes to another ledger is what was meant, no more and no less, and comes once.

use std::collections::BTreeMap;
use std::fs;
use std::time::Duration;

use cledger_core::address::Owner;
use cledger_core::compare::Difference;
use cledger_core::model::{StageId, Subject};
use cledger_core::name::Name;
use cledger_core::reference::Target;
use cledger_core::resolve::{FieldId, Outcome};
use cledger_core::types::Type;
use cledger_store::{Reader, Recipient};
use cledger_work::compare::{Side, Structure, named_sides};
use cledger_work::deliver::{Edits, deliver};
use cledger_work::folio::{
    Entered, Fate, Folio, Made, SecretsFor, Signer, ToEnter, ToMake, carry_over, enter, make,
};
use cledger_work::keys::identity;
use cledger_work::{Kind, Opened, Trouble};

use crate::random_ledgers::ledger;
use crate::workplaces::{Place, asked as asked_of, because, whole};

pub(crate) fn name(text: &str) -> Name {
    Name::parse(text).unwrap()
}

/// Makes a folio beside a ledger; with the values of a stage for whoever has the other ledger's identity.
fn folio(
    place: &Place,
    units: &[&str],
    from: Option<&str>,
    reader: Option<&Place>,
) -> (Made, std::path::PathBuf) {
    signed(place, units, (from, reader), None)
}

/// The same, signed.
pub(crate) fn signed(
    place: &Place,
    units: &[&str],
    (from, reader): (Option<&str>, Option<&Place>),
    signer: Option<&Signer>,
) -> (Made, std::path::PathBuf) {
    let mut what = whole(units[0]);
    what.units = units.iter().flat_map(|unit| whole(unit).units).collect();
    let secrets_for = match reader {
        None => SecretsFor::Nobody,
        Some(other) => {
            let recipient: Recipient = other.at.identity.recipients().unwrap().remove(0);
            SecretsFor::Readers(vec![Reader { name: name("ben"), recipient }])
        }
    };
    let stage = from.map(name);
    let asked = ToMake {
        what: &what,
        from: stage.as_ref(),
        with_values: reader.is_some(),
        secrets_for,
        countersign: &from.map(name).into_iter().collect::<Vec<_>>(),
        signer,
    };
    let made = make(&place.open(), &asked).unwrap();
    let path = place.path("../it.folio");
    fs::write(&path, &made.bytes).unwrap();
    (made, path)
}

pub(crate) fn to_enter(stages: &[&str]) -> ToEnter {
    ToEnter {
        ledger: None,
        stages: stages.iter().map(|stage| name(stage)).collect(),
        signed_by: Vec::new(),
        rename: Vec::new(),
        keep_ours: Vec::new(),
        take_theirs: Vec::new(),
        answers: None,
        with_values: false,
        leave_open: false,
        plain_secrets: true,
        deliver: false,
        edits: Edits::default(),
        consent: because(&[]),
        wait: Duration::from_millis(50),
        write: true,
    }
}

pub(crate) fn enters(place: &Place, path: &std::path::Path, asked: &ToEnter) -> Result<Entered, Trouble> {
    enter(&place.at, &Folio::read(path)?, asked)
}

/// What becomes of each piece.
fn fates(entered: &Entered) -> BTreeMap<String, Fate> {
    entered.pieces.iter().map(|it| (it.piece.to_string(), it.fate.clone())).collect()
}

/// The values and what is absent on purpose of a stage, but for lookup tables, which are not carried.
fn values(opened: &Opened, stage: StageId) -> BTreeMap<String, Option<String>> {
    let (ledger, resolver) = (&opened.ledger, opened.resolver());
    let mut found = BTreeMap::new();
    for subject in ledger.subjects_in(stage) {
        let Subject::Unit(unit, _) = subject else { continue };
        let mut session = resolver.session(Some(unit));
        for slot in ledger.slots(subject).all() {
            if ledger.field(subject, slot).1.this_type == Type::Table {
                continue;
            }
            let address = format!("{}/{}", ledger.owner(subject), ledger.field_name(subject, slot));
            match session.outcome(FieldId { subject, stage, slot }) {
                Outcome::Value(value) => {
                    found.insert(address, value.expose().map(|value| value.to_text().to_string()));
                }
                Outcome::Absent(_) => drop(found.insert(address, None)),
                Outcome::Unset | Outcome::Missing(..) | Outcome::Broken(_) => {}
            }
        }
    }
    found
}

/// Whether a declaration means another stage, or rows of a lookup table: neither comes along.
fn means_more(opened: &Opened) -> bool {
    let ledger = &opened.ledger;
    let mut found = false;
    let mut look = |target: Target| {
        if let Target::Own(field) | Target::OfShared(field) | Target::OfUnit(_, _, field) = target {
            let is_table = field.field.is_none()
                && ledger
                    .units
                    .iter()
                    .flat_map(|unit| &unit.entries)
                    .chain(&ledger.shared)
                    .any(|entry| entry.name == field.entry && entry.kind.table() == "tables");
            found |= field.stage.is_some() || is_table;
        }
    };
    for unit in &ledger.units {
        unit.each_declared_target(&mut look);
    }
    for entry in &ledger.shared {
        entry.each_declared_target(&mut look);
    }
    found
}

/// A ledger with one stage that is like that of another one, and nothing in it.
fn empty_like(opened: &Opened, stage: StageId) -> Place {
    let this = opened.ledger.stage(stage);
    let labels: Vec<String> = this.labels.iter().map(|(name, text)| format!("{name} = {text:?}")).collect();
    let place = Place::new(&[]);
    place.write(
        "ledger.toml",
        &format!(
            "format = 1\nname = \"Empty\"\n[[stage]]\nname = \"{}\"\nclass = \"{}\"\nlabels = {{ {} }}\n",
            this.name,
            this.class.name(),
            labels.join(", ")
        ),
    );
    identity(&place.at, true).unwrap();
    place
}

#[test]
fn what_comes_to_an_empty_ledger_has_the_same_effect_there_and_comes_once() {
    let (mut compared, mut hunted) = (0, 0);
    for seed in 0..90 {
        let place = ledger(seed);
        let opened = place.open();
        if means_more(&opened) {
            continue;
        }
        for stage in opened.ledger.stage_ids() {
            let this = opened.ledger.stage(stage).name.to_string();
            let owners = opened.ledger.subjects_in(stage).map(|subject| opened.ledger.owner(subject));
            let units: Vec<String> = owners
                .filter_map(|owner| match owner {
                    Owner::Unit(unit, None) => Some(unit.to_string()),
                    _ => None,
                })
                .collect();
            let units: Vec<&str> = units.iter().map(String::as_str).collect();
            if units.is_empty() {
                continue;
            }
            let expected = values(&opened, stage);
            // Nothing of what only settings say is in a folio that carries no values.
            let (made, path) = folio(&place, &units, Some(&this), None);
            let declared: String = opened
                .ledger
                .files
                .0
                .iter()
                .filter(|it| !it.path.starts_with("stages/") && !it.path.starts_with("groups/"))
                .map(|it| it.text.as_str())
                .collect();
            let text = String::from_utf8_lossy(&made.bytes);
            for value in expected
                .values()
                .flatten()
                .filter(|value| value.len() > 4 && !declared.contains(value.as_str()))
            {
                hunted += 1;
                assert!(!text.contains(value.as_str()), "{seed} {this}: {value}");
            }
            assert_eq!(fs::read(&path).unwrap(), folio(&place, &units, Some(&this), None).0.bytes);

            let other = empty_like(&opened, stage);
            let (_, path) = folio(&place, &units, Some(&this), Some(&other));
            let asked = ToEnter {
                with_values: true,
                leave_open: true,
                consent: because(&[&this]),
                ..to_enter(&[&this])
            };
            let entered = enters(&other, &path, &asked).unwrap();
            assert!(entered.written, "{seed} {this}");
            let there = other.open();
            let found = values(&there, there.ledger.stage_id(&this).unwrap());
            for (address, value) in &expected {
                compared += 1;
                assert_eq!(found.get(address), Some(value), "{seed} {this} {address}");
            }
            let before = other.everything();
            let again = enters(&other, &path, &asked).unwrap();
            assert!(again.files.is_empty() && again.written, "{seed} {this}: {:?}", again.files);
            let now = other.everything();
            for (path, (text, _)) in
                before.iter().filter(|(path, _)| !path.to_string_lossy().contains("/state/"))
            {
                assert_eq!(now.get(path).map(|(text, _)| text), Some(text), "{seed}: {}", path.display());
            }
        }
    }
    assert!(compared > 1_000 && hunted > 30, "{compared} {hunted}");
}

const DESK: &str = "version = \"1\"\nstages = [\"dev\"]\nuses = [\"mail\"]\n\
     [variables.hold]\ndefault = \"5m\"\n[variables.place]\nvary = \"must\"\nabout = \"Where it stands\"\n\
     [[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n\
     [[probe]]\nname = \"closed\"\nentry = \"mail\"\nstages = [\"dev\"]\nexpect = \"refused\"\n";
const MAIL: &str = "[connections.mail]\nprotocol = \"smtp\"\nfields.port.default = 26\n";

pub(crate) fn source() -> Place {
    Place::new(&[
        ("units/desk.toml", DESK),
        ("shared.toml", MAIL),
        ("stages/dev.toml", "[units.desk]\nplace = \"quay\"\n[shared.mail]\nhost = \"mail.one.example\"\n"),
    ])
}

#[test]
fn a_second_version_changes_what_changed_and_asks_for_what_is_new() {
    let (place, other) = (source(), Place::new(&[]));
    let (_, path) = folio(&place, &["desk"], None, None);
    let open = ToEnter { leave_open: true, ..to_enter(&["test"]) };
    // Without the values that it needs nothing is taken in.
    let lacking = enters(&other, &path, &to_enter(&["test"])).unwrap();
    assert!(!lacking.written && lacking.kind() == Some(Kind::Found));
    assert_eq!(
        lacking.lacking.iter().map(|it| it.address.as_str()).collect::<Vec<_>>(),
        ["desk/place@test", "shared/mail.host@test"]
    );
    assert!(!other.path("units/desk.toml").exists());
    assert!(enters(&other, &path, &open).unwrap().written);
    // What it is for some stages of its own ledger is for those here that somebody says.
    let contract = other.read("units/desk.toml");
    assert!(contract.contains("[[probe]]") && !contract.contains("\"dev\""), "{contract}");
    let narrowed = contract.replace("expect = \"refused\"", "expect = \"refused\"\nstages = [\"te*\"]");
    other.write("units/desk.toml", &narrowed);
    other.write(
        "stages/test.toml",
        "[units.desk]\nplace = \"here\"\nhold = \"9m\"\n[shared.mail]\nhost = \"mail.two.example\"\n",
    );

    let second = DESK
        .replace("\"1\"", "\"2\"")
        .replace("[variables.hold]\ndefault = \"5m\"\n", "[variables.colour]\n");
    place.write("units/desk.toml", &second);
    let (_, path) = folio(&place, &["desk"], None, None);
    let entered = enters(&other, &path, &open).unwrap();
    assert_eq!(
        fates(&entered),
        [("desk".to_owned(), Fate::Changed), ("shared/mail".to_owned(), Fate::Same)].into()
    );
    assert_eq!(entered.gone, ["desk/hold (set in test)"]);
    assert_eq!(
        entered.lacking.iter().map(|it| it.address.as_str()).collect::<Vec<_>>(),
        ["desk/colour@test"]
    );
    assert!(
        other.read("stages/test.toml").contains("\"here\"")
            && other.read("units/desk.toml").contains("stages = [\"test\"]")
            && other.read("units/desk.toml").contains("stages = [\"te*\"]")
    );
}

#[test]
fn what_clashes_is_decided_by_somebody_or_nothing_comes() {
    let place = source();
    let other = || {
        Place::new(&[(
            "shared.toml",
            "[connections.mail]\nprotocol = \"smtp\"\nfields.port.default = 587\n[variables.x]\n# ours\ndefault = \"1\"\n",
        )])
    };
    let (_, path) = folio(&place, &["desk"], None, None);
    let open = ToEnter { leave_open: true, ..to_enter(&["dev"]) };
    let clash = other();
    assert_eq!(enters(&clash, &path, &open).unwrap_err().kind(), Kind::Refused);
    let plan = enters(&clash, &path, &ToEnter { write: false, ..open.clone() }).unwrap();
    assert!(matches!(fates(&plan)["shared/mail"], Fate::Clash(_)) && plan.kind() == Some(Kind::Found));
    let said =
        |option: &str| ["shared/*".to_owned()].into_iter().filter(|_| !option.is_empty()).collect::<Vec<_>>();
    for (asked, port, uses) in [
        (ToEnter { keep_ours: said("ours"), ..open.clone() }, "587", "mail"),
        (ToEnter { take_theirs: said("theirs"), ..open.clone() }, "26", "mail"),
        (ToEnter { rename: vec!["shared/mail=post".to_owned()], ..open.clone() }, "26", "post"),
    ] {
        let other = other();
        assert!(enters(&other, &path, &asked).unwrap().written);
        let shared = other.read("shared.toml");
        assert!(
            shared.contains(port) && shared.contains("# ours") && shared.contains("[variables.x]"),
            "{shared}"
        );
        assert_eq!(shared.contains("587"), port == "587" || uses == "post", "{shared}");
        assert!(other.read("units/desk.toml").contains(&format!("uses = [\"{uses}\"]")));
        other.open();
    }
    // A pattern that covers nothing is a mistake.
    let idle = ToEnter { keep_ours: vec!["nothing".to_owned()], ..open };
    assert_eq!(enters(&clash, &path, &idle).unwrap_err().kind(), Kind::Usage);
}

#[test]
fn a_folio_that_is_not_what_was_made_is_refused_whichever_byte_is_another() {
    let place = source();
    let (made, path) = folio(&place, &["desk"], Some("dev"), None);
    assert!(Folio::read(&path).is_ok());
    let bytes = &made.bytes;
    for at in 0..bytes.len() {
        let mut changed = bytes.clone();
        changed[at] ^= 1;
        fs::write(&path, &changed).unwrap();
        assert!(Folio::read(&path).is_err(), "{at}");
    }
    for length in (0..bytes.len()).step_by(7) {
        fs::write(&path, &bytes[..length]).unwrap();
        assert!(Folio::read(&path).is_err(), "{length}");
    }
}

/// A folio of these members, packed as this program would.
pub(crate) fn forged(members: &[(&str, &str)]) -> Vec<u8> {
    use std::io::Write as _;
    let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    writer.set_comment(format!("blake3 {}", "0".repeat(64))).unwrap();
    for (path, text) in members {
        writer.start_file(*path, zip::write::SimpleFileOptions::default()).unwrap();
        writer.write_all(text.as_bytes()).unwrap();
    }
    let mut bytes = writer.finish().unwrap().into_inner();
    bytes.truncate(bytes.len() - 64);
    let hash = blake3::hash(&bytes).to_hex();
    bytes.extend_from_slice(hash.as_bytes());
    bytes
}

/// What a folio says of itself that has these members, each with its true hash.
fn says(format: u32, members: &[(&str, &str)], more: &str) -> String {
    let listed = members.iter().map(|(path, text)| {
        format!(
            r#"{{"path":"{path}","bytes":{},"hash":"{}"}}"#,
            text.len(),
            blake3::hash(text.as_bytes()).to_hex()
        )
    });
    let listed: Vec<String> = listed.collect();
    format!(
        r#"{{"format":{format},"ledger":"Far","units":[{{"name":"desk","version":null,"about":null}}],"shared":[],"rules":[],
        "bundles":[],"files":["../out.csv","ledger.toml","keys/x.age"],"from":null,"values":false,"secrets_for":[],
        "members":[{}]{more}}}"#,
        listed.join(",")
    )
}

#[test]
fn folios_of_strangers_are_refused_with_the_reason_and_nothing_is_written() {
    let place = Place::new(&[]);
    let path = place.path("../it.folio");
    let desk = ("units/desk.toml", "stages = [\"dev\"]\n");
    let many: Vec<(String, String)> =
        (0..10_001).map(|at| (format!("units/u{at}.toml"), String::new())).collect();
    let many: Vec<(&str, &str)> = many.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let with = |format: u32, members: &[(&str, &str)], more: &str| {
        let manifest = says(format, members, more);
        let all: Vec<(&str, &str)> =
            [("folio.json", manifest.as_str())].into_iter().chain(members.iter().copied()).collect();
        forged(&all)
    };
    for (bytes, reason) in [
        (with(1, &[desk], ""), None),
        (with(2, &[desk], ",\"later\":1"), Some("version 2")),
        (with(1, &[desk], ",\"more\":1"), Some("not of its form")),
        (forged(&[desk]), Some("no member `folio.json`")),
        (with(1, &[desk, ("../out.toml", "")], ""), Some("lead out")),
        (with(1, &[desk, ("files/../../out.csv", "")], ""), Some("lead out")),
        (with(1, &[desk, ("files/ledger.toml", "")], ""), Some("no place in a ledger")),
        (with(1, &[desk, ("files/keys/x.age", "")], ""), Some("no place in a ledger")),
        (with(1, &[desk, ("stages/dev.toml", "")], ""), Some("no place in a ledger")),
        (with(1, &[desk, ("units/gate.toml", "")], ""), Some("does not say that `gate` is inside")),
        (forged(&[("folio.json", &says(1, &[], "")), desk]), Some("does not list")),
        (
            forged(&[("folio.json", &says(1, &[desk], "")), ("units/desk.toml", "stages = []\n")]),
            Some("is not what"),
        ),
        (with(1, &many, ""), Some("10000")),
        (b"PK\x03\x04 and so on".to_vec(), Some("cut off")),
        (b"no archive at all".to_vec(), Some("no zip archive")),
    ] {
        fs::write(&path, &bytes).unwrap();
        let before = place.everything();
        let read = enters(&place, &path, &to_enter(&["dev"]));
        match reason {
            None => assert!(read.is_ok(), "{read:?}"),
            Some(reason) => {
                let error = read.unwrap_err();
                assert!(
                    error.kind() == Kind::Usage && error.to_string().contains(reason),
                    "{reason}: {error}"
                );
                assert_eq!(place.everything(), before, "{reason}");
            }
        }
    }
    // A contract that is none is refused with its line, whatever else is inside.
    let broken = ("units/desk.toml", "uses = [\"nothing-of-it\"]\n");
    fs::write(&path, with(1, &[broken], "")).unwrap();
    let error = enters(&place, &path, &to_enter(&["dev"])).unwrap_err();
    assert!(error.to_string().contains("folio"), "{error}");
}

/// How the names of two sides stand to each other, but for those that are the same.
fn differences(place: &Place, left: &str, right: &str, their_stage: Option<&str>) -> Vec<String> {
    let sides = (Side::parse(left).unwrap(), Side::parse(right).unwrap());
    let how = Structure { format: None, key: None, names_only: false };
    let stage = their_stage.map(name);
    let compared = named_sides(&place.at, (&sides.0, &sides.1), (&how, stage.as_ref())).unwrap();
    let differing = compared.names.iter().filter(|one| one.difference != Difference::Same);
    differing.map(|one| format!("{} {:?}", one.name(), one.difference)).collect()
}

#[test]
fn another_ledger_and_a_folio_are_compared_contract_by_contract_and_value_by_value() {
    let (place, other) = (source(), Place::new(&[]));
    identity(&other.at, true).unwrap();
    let (_, path) = folio(&place, &["desk"], Some("dev"), Some(&other));
    enters(&other, &path, &ToEnter { with_values: true, ..to_enter(&["test"]) }).unwrap();
    let ledger = format!("ledger:{}", place.path("").display());
    assert_eq!(differences(&other, &ledger, "@test", Some("dev")), [""; 0]);
    assert_eq!(differences(&other, "@test", &format!("folio:{}", path.display()), None), [""; 0]);
    other.write("stages/test.toml", &other.read("stages/test.toml").replace("quay", "here"));
    place.write("units/desk.toml", &DESK.replace("\"5m\"", "\"9m\""));
    place.write("units/lamp.toml", "");
    let expected = ["desk/hold Differs", "desk/hold declared Differs", "desk/place AsMeant", "lamp OnlyLeft"];
    assert_eq!(differences(&other, &ledger, "@test", Some("dev")), expected);
    assert_eq!(
        differences(&other, &format!("folio:{}", path.display()), "@test", None),
        ["desk/place AsMeant"]
    );
}

#[test]
fn what_moves_to_another_ledger_in_one_step_is_what_was_delivered() {
    let (place, other) = (source(), Place::new(&[]));
    let asked = ToEnter { ledger: Some(other.path("")), leave_open: true, ..to_enter(&["test"]) };
    let move_over = || carry_over(&place.open(), &whole("desk@dev"), &asked);
    assert_eq!(move_over().unwrap_err().kind(), Kind::Usage, "there is no daybook");
    deliver(&place.open(), &asked_of(&["desk"], "dev")).unwrap();
    place.write("units/desk.toml", &DESK.replace("\"5m\"", "\"9m\""));
    assert_eq!(move_over().unwrap_err().kind(), Kind::Refused, "another contract than was delivered");
    deliver(&place.open(), &asked_of(&["desk"], "dev")).unwrap();
    assert!(move_over().unwrap().written);
    assert!(other.read("units/desk.toml").contains("9m") && !other.read("folios.toml").contains("quay"));
}

#[test]
fn what_is_delivered_of_a_folio_is_its_units_whatever_a_bundle_of_that_name_has_here() {
    let place = source();
    let bundle = |units: &str| format!("[[bundle]]\nname = \"quay\"\nunits = [\"{units}\"]\n");
    place.write("ledger.toml", &(place.read("ledger.toml") + &bundle("desk")));
    for (ours, said) in [(None, ""), (Some("lamp"), "bundle:quay")] {
        let other = Place::new(&[(
            "units/lamp.toml",
            "stages = [\"test\"]\n[variables.light]\ndefault = \"on\"\n\
            [[output]]\npath = \"lamp.env\"\nformat = \"dotenv\"\n",
        )]);
        identity(&other.at, true).unwrap();
        if let Some(ours) = ours {
            other.write("ledger.toml", &(other.read("ledger.toml") + &bundle(ours)));
        }
        let (_, path) = folio(&place, &["bundle:quay"], Some("dev"), Some(&other));
        let keep_ours = Some(said).filter(|said| !said.is_empty()).map(str::to_owned).into_iter().collect();
        let asked = ToEnter { with_values: true, deliver: true, keep_ours, ..to_enter(&["test"]) };
        let entered = enters(&other, &path, &asked).unwrap();
        assert_eq!((entered.kind(), entered.delivered.len()), (None, 1), "{ours:?}");
        assert_eq!(entered.delivered[0].together.is_some(), ours.is_none());
        assert!(other.path("../live/test/desk/desk.env").exists(), "{ours:?}");
        assert!(!other.path("../live/test/lamp/lamp.env").exists(), "{ours:?}");
    }
}

#[test]
fn what_came_in_is_told_although_its_delivery_is_refused() {
    let (place, other) = (source(), Place::new(&[]));
    identity(&other.at, true).unwrap();
    let (_, path) = folio(&place, &["desk"], Some("dev"), Some(&other));
    other.write("../live/test/desk/desk.env", "PLACE=by-hand\n");
    let asked = ToEnter { with_values: true, deliver: true, ..to_enter(&["test"]) };
    let entered = enters(&other, &path, &asked).unwrap();
    assert!(entered.written && other.path("units/desk.toml").exists());
    assert!(entered.kind().is_some() && entered.delivered.len() == 1, "{:?}", entered.delivered);
    assert!(other.read("../live/test/desk/desk.env").contains("by-hand"));
}
