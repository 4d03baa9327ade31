//! Documents that a service lists and names itself, and documents of which several units have a part.

use std::fs;

use cledger_standin::{Fault, Options, StandIn};
use tempfile::TempDir;

use crate::test_ledger::{TestLedger, written};

const UNITS: [&str; 5] = ["crane", "gate", "lock", "ramp", "winch"];

/// A ledger whose units have a document each in a list, and a part each of one document; and the service.
struct Harbour {
    ledger: TestLedger,
    service: StandIn,
    folder: TempDir,
}

impl Harbour {
    fn new() -> Self {
        Self::within("60s")
    }

    /// One whose service has so long to answer.
    fn within(limit: &str) -> Self {
        let folder = TempDir::new().unwrap();
        let options = Options { folder: folder.path().to_owned(), ..Options::default() };
        let service = StandIn::start(options).unwrap();
        let head = "format = 1\nname = \"Harbour\"\n[[stage]]\nname = \"dev\"\nclass = \"development\"\n";
        let outlet = |name: &str, rest: &str| {
            let url = service.url();
            format!(
                "[[outlet]]\nname = \"{name}\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"{url}\"\ntimeout = \"{limit}\"\n{rest}\n"
            )
        };
        let berths = "path = \"${stage.name}/berths\"\nfind = \"$.documents[?@.name=='${unit.name}'].id\"\n\
             at = \"/values\"\nnew = { name = \"${unit.name}\" }";
        let board = "path = \"board\"\nat = \"/stages/${stage.name}/${unit.name}\"\nonly = [\"hold\"]";
        let ledger = TestLedger::with([(
            "ledger.toml",
            (head.to_owned() + &outlet("berths", berths) + &outlet("board", board)).as_str(),
        )]);
        for unit in UNITS {
            let contract =
                "[variables.hold]\ndefault = \"5m\"\n[variables.tide]\ntype = \"integer\"\ndefault = 7\n";
            ledger.write(&format!("units/{unit}.toml"), contract);
        }
        let harbour = Self { ledger, service, folder };
        harbour.holds("board", r#"{"title": "Board", "stages": {"dev": {"mole": {"depth": 1.50}}}}"#);
        for number in 1..=5 {
            harbour.holds(
                &format!("dev/berths/b{number}"),
                &format!(r#"{{"name":"old{number}","values":{{"x":1}}}}"#),
            );
        }
        harbour
    }

    fn holds(&self, document: &str, text: &str) {
        let path = self.folder.path().join(document).with_extension("json");
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    fn text(&self, document: &str) -> String {
        fs::read_to_string(self.folder.path().join(document).with_extension("json")).unwrap()
    }

    fn documents(&self) -> usize {
        fs::read_dir(self.folder.path().join("dev/berths")).unwrap().count()
    }

    fn run(&self, arguments: &str, code: i32) -> String {
        let command = self.ledger.command(arguments).env("CLEDGER_IDENTITY", "../identity");
        let (out, err) =
            written(&command.env("CLEDGER_WHO", "ada").env("COLUMNS", "200").assert().code(code));
        out.split_inclusive('\n')
            .map(|line| line.split_whitespace().collect::<Vec<_>>().join(" ") + "\n")
            .collect::<String>()
            + &err
    }
}

#[test]
fn documents_are_found_page_by_page_and_made_and_others_parts_stay() {
    let harbour = Harbour::new();
    // It is on the third page of its list, and says more than the ledger knows.
    harbour
        .holds("dev/berths/z9", r#"{"name":"crane","length":12345678901234567890,"values":{"hold":"5m"}}"#);
    let out = harbour.run("deliver @dev --write --why first --at-once 5", 0);
    assert_eq!(out.matches("Recorded as").count(), 5, "{out}");
    assert_eq!(harbour.documents(), 10);
    let crane = r#"{"name":"crane","length":12345678901234567890,"values":{"hold":"5m","tide":7}}"#;
    assert_eq!(harbour.text("dev/berths/z9"), crane);
    let board = harbour.text("board");
    assert!(board.starts_with(r#"{"title":"Board","stages":{"dev":{"mole":{"depth":1.50},"#), "{board}");
    for unit in UNITS {
        assert!(board.contains(&format!(r#""{unit}":{{"hold":"5m"}}"#)), "{board}");
    }
    let out = harbour.run("drift @dev", 0);
    assert_eq!(out.matches("as the ledger says: crane, gate, lock, ramp, winch").count(), 2, "{out}");
    // What is changed is changed where it is, and not made a second time.
    harbour.ledger.run("change lock/tide --default 8 --write").code(0);
    harbour.run("deliver @dev --write --why second", 0);
    assert_eq!(harbour.documents(), 10);
    // Edits by hand are told by name, and those around are none.
    harbour.holds(
        "board",
        &harbour
            .text("board")
            .replace(r#""depth":1.50"#, r#""depth":2.50"#)
            .replace(r#""ramp":{"hold":"5m"}"#, r#""ramp":{"hold":"6m"}"#),
    );
    let out = harbour.run("drift @dev", 1);
    assert!(out.contains("hold 5m 6m differs: edited by hand"), "{out}");
    assert!(out.contains("drift: 1 of 5 units"), "{out}");
    let out = harbour.run("withdraw @dev --write --why off", 4);
    assert!(out.contains("not withdrawn: `ramp@dev` would lose what is edited by hand"), "{out}");
    let board = harbour.text("board");
    assert!(board.contains(r#"{"mole":{"depth":2.50},"ramp":{"hold":"6m"}}"#), "{board}");
    assert_eq!(harbour.text("dev/berths/z9"), crane.replace(r#","tide":7"#, ""));
}

#[test]
fn a_document_is_made_once_whatever_becomes_of_the_answer() {
    for (fault, said, code, count) in [
        (Some(Fault::LoseAnswer), "gate@dev berths http brought\n", 0, 6),
        (Some(Fault::LoseWrites), "gate@dev berths http not held", 3, 5),
        (Some(Fault::DownWrites), "gate@dev berths http not known status 503", 3, 5),
        (Some(Fault::HangWrites), "gate@dev berths http not known", 3, 5),
        (Some(Fault::Garbage), "no JSON", 3, 5),
        (None, "gate@dev berths http brought\n", 0, 6),
    ] {
        let harbour = Harbour::within(if fault == Some(Fault::HangWrites) { "3s" } else { "60s" });
        harbour.service.set_fault("/dev", fault);
        let out = harbour.run("deliver gate@dev --write --why first", code);
        assert!(out.contains(said), "{fault:?}: {out}");
        assert_eq!(harbour.documents(), count, "{fault:?}");
        harbour.service.set_fault("/dev", None);
        if fault != Some(Fault::Garbage) && code != 0 {
            harbour.run("deliver gate@dev --write --finish --why rest", 0);
            assert_eq!(harbour.documents(), 6, "{fault:?}");
        }
    }
    // Where a text stands in the way, nothing is tried.
    let harbour = Harbour::new();
    harbour.holds("board", r#"{"stages": "none"}"#);
    let out = harbour.run("deliver gate@dev", 3);
    assert!(out.contains("leads through something that has no names"), "{out}");
    // Two that could be meant are none.
    let harbour = Harbour::new();
    harbour.holds("dev/berths/g1", r#"{"name":"gate"}"#);
    harbour.holds("dev/berths/g2", r#"{"name":"gate"}"#);
    let out = harbour.run("deliver gate@dev --write --why first", 3);
    assert!(out.contains("leads to 2 documents, and must lead to one"), "{out}");
    assert_eq!(harbour.text("dev/berths/g1"), r#"{"name":"gate"}"#);
}

#[test]
fn what_says_nowhere_is_a_mistake_at_its_place() {
    for (rest, said) in [
        ("find = \"$[\"", "`find`: it is no JSONPath query"),
        ("find = \"$.a[?@.b=='${desk/hold}']\"", "only the stage and the unit can"),
        ("at = \"values\"", "`at` is no JSON Pointer: `values`"),
        ("at = \"/\"", "`at` is no JSON Pointer: `/`"),
        ("at = \"/${hold}\"", "only the stage and the unit can"),
        ("next = \"/next\"", "`next` means nothing without `find`"),
        ("new = { name = \"x\" }", "`new` means nothing without `at`"),
        (
            "at = \"/values\"\nnew = { values = \"x\" }",
            "`new` has `values`, which leads to the unit's own values",
        ),
        ("certificate = { from = \"env:A\" }", "`certificate` and `certificate_key` go together"),
    ] {
        let ledger = TestLedger::with([(
            "ledger.toml",
            format!("format = 1\nname = \"T\"\n[[stage]]\nname = \"dev\"\nclass = \"test\"\n[[outlet]]\nname = \"x\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"http://a\"\n{rest}\n").as_str(),
        )]);
        let (_, err) = written(&ledger.run("check").code(2));
        assert!(err.contains(said) && err.contains("ledger.toml:"), "{rest}: {err}");
    }
}
