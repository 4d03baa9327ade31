//! Opening a ledger: owned and shared between threads, as far as it can be read, and never written to.

use cledger_core::findings::{Code, check};
use cledger_core::model::{StageId, Subject};
use cledger_core::resolve::{FieldId, Outcome};
use cledger_store::Scope;
use cledger_work::capture::{SecretsAs, ToCapture, capture};
use cledger_work::check::ToCheck;
use cledger_work::drift::{ToLookAt, drift};
use cledger_work::{Opened, deliver};

use crate::workplaces::{Place, address};

const FILES: [(&str, &str); 4] = [
    ("units/desk.toml", "[variables.hold]\ndefault = \"5m\"\n[variables.region]\n"),
    ("units/gate.toml", "[variables.line]\ndefault = \"${desk/hold}\"\n"),
    ("stages/dev.toml", "[units.desk]\nregion = \"north\"\n"),
    ("stages/test.toml", "[units.desk]\nregion = \"south\"\n"),
];

/// What a field comes to, as text.
fn value(opened: &Opened, stage: u16, unit: &str, entry: &str) -> Option<String> {
    let ledger = &opened.ledger;
    let id = ledger.unit_id(unit)?;
    let subject = Subject::Unit(id, None);
    let slot = ledger.find_slot(subject, entry, None).ok()?;
    let resolver = opened.resolver();
    match resolver.session(Some(id)).outcome(FieldId { subject, stage: StageId(stage), slot }) {
        Outcome::Value(value) => value.expose().map(|value| value.to_text().to_string()),
        _ => None,
    }
}

#[test]
fn an_open_ledger_is_shared_between_threads() {
    fn is_shared<T: Send + Sync + 'static>(shared: T) -> T {
        shared
    }
    let place = Place::new(&FILES);
    let opened = std::sync::Arc::new(is_shared(place.open()));
    let threads = ["dev", "test"].iter().enumerate().map(|(stage, _)| {
        let opened = opened.clone();
        std::thread::spawn(move || value(&opened, u16::try_from(stage).unwrap(), "desk", "region"))
    });
    let values: Vec<_> = threads.collect::<Vec<_>>().into_iter().map(|it| it.join().unwrap()).collect();
    assert_eq!(values, [Some("north".to_owned()), Some("south".to_owned())]);
}

#[test]
fn one_broken_file_leaves_the_rest() {
    for (file, text, whole) in [
        ("units/desk.toml", "[variables.hold\n", "gate"),
        ("units/desk.toml", "[variables.hold]\ntype = \"nothing\"\n", "gate"),
        ("stages/test.toml", "[units.desk\n", "desk"),
        ("stages/test.toml", "[unit.desk]\n", "desk"),
        ("units/Bad.toml", "", "desk"),
    ] {
        let place = Place::new(&FILES);
        place.write("units/gate.toml", "[variables.line]\ndefault = \"free\"\n");
        let before = check(&place.open().resolver(), &[], None).findings;
        place.write(file, text);
        assert!(Opened::read(&place.at, &Scope::Whole).is_err(), "{file}");
        let opened = Opened::read_partly(&place.at, &Scope::Whole).unwrap();
        let broken = &opened.ledger.broken.0;
        assert_eq!(broken.len(), 1, "{file}");
        assert_eq!((broken[0].path.as_str(), broken[0].mistakes.is_empty()), (file, false));
        let (entry, expected) = if whole == "gate" { ("line", "free") } else { ("region", "north") };
        assert_eq!(value(&opened, 0, whole, entry).as_deref(), Some(expected), "{file}");
        let report = check(&opened.resolver(), &[], None);
        assert_eq!(report.findings[0].code, Code::UnreadableFile, "{file}");
        for finding in &report.findings[1..] {
            assert!(before.iter().any(|known| known.key() == finding.key()), "{file}: {}", finding.message);
        }
    }
    let place = Place::new(&FILES);
    place.write("ledger.toml", "format = \n");
    assert!(Opened::read_partly(&place.at, &Scope::Whole).is_err());
}

#[test]
fn reading_never_writes() {
    let place = Place::new(&FILES);
    let before = place.everything();
    let opened = place.open();
    let asked =
        ToCheck { patterns: Vec::new(), stage: None, fetch: true, against: None, strict: false, today: None };
    cledger_work::check::check(&place.at, &asked).unwrap();
    deliver::status::status(&opened, &[], true).unwrap();
    deliver::history::history(&opened, &[], 10).unwrap_err();
    drift(&place.at, &ToLookAt { addresses: vec!["@dev".to_owned()], ..ToLookAt::default() }).unwrap();
    let stage = address("@dev");
    let (secrets, units) = (SecretsAs::LeftOut, &[][..]);
    capture(
        &opened,
        &ToCapture { address: &stage, units, secrets, passphrase: None, why: None, with_ledger: false },
    )
    .unwrap();
    assert_eq!(place.everything(), before);
}
